"""Imports run down, no circle, no database knows another, every door says what is behind it."""

from __future__ import annotations

import ast

import pytest

import rapid_mender as rm

from .rooms import DATABASES, FLOORS, HOUSE, PICTURE, imports, parsed, picture

pytestmark = pytest.mark.pure


def test_imports_run_down() -> None:
    floor = {room: number for number, names in enumerate(FLOORS) for room in names}
    up = [(name, other) for name, others in imports().items() for other in others if other and floor[name.split(".")[0]] < floor[other.split(".")[0]]]
    assert up == []


def test_there_is_no_circle() -> None:
    left = dict(imports())
    left.pop("")
    while ground := {name for name, others in left.items() if not others & left.keys()}:
        left = {name: others for name, others in left.items() if name not in ground}
    assert left == {}


def test_no_database_knows_another() -> None:
    for name, others in imports().items():
        mine = set(name.split(".")) & DATABASES
        for other in others:
            assert not mine or not (set(other.split(".")) & DATABASES) - mine, (name, other)


def test_files_are_small_and_doors_say_what_they_are_for() -> None:
    for path in HOUSE.rglob("*.py"):
        text = path.read_text()
        assert len(text.splitlines()) <= 420, path
        assert path.name == "__init__.py" or ast.get_docstring(parsed(path)), path
    assert not {path.stem for path in HOUSE.glob("*.py")} & set(rm.__all__), "a public function would be hidden by a module"


def test_the_picture_of_the_rooms_is_that_of_today() -> None:
    assert PICTURE.read_text() == picture(), "run: python -m tests.rooms"
