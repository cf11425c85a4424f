"""The rooms of the package: imports run down, no circle, no database knows another."""

from __future__ import annotations

import ast
from pathlib import Path

import rapid_mender as rm

HOUSE = Path(rm.__file__).parent
FLOORS = [
    {"errors", "spelling", "notebook"}, {"core"}, {"stores"}, {"incoming"}, {"jobs"}, {"changes"}, {"merging"}, {"documents"}, {"demo"}, {"cli"},
    {"", "__main__"},
]  # fmt: skip
DATABASES = {"sqlite", "postgresql", "mariadb"}


def rooms() -> dict[str, set[str]]:
    """Every module, and the modules that it imports; not what it names for types only."""
    files = {".".join(path.relative_to(HOUSE).with_suffix("").parts).removesuffix(".__init__").replace("__init__", ""): path for path in HOUSE.rglob("*.py")}
    found: dict[str, set[str]] = {}
    for name, path in files.items():
        package = name.split(".") if path.name == "__init__.py" else name.split(".")[:-1]
        package = [part for part in package if part]
        tree = ast.parse(path.read_text())
        typing = {id(node) for block in ast.walk(tree) if isinstance(block, ast.If) and "TYPE_CHECKING" in ast.unparse(block.test) for node in ast.walk(block)}
        found[name] = set()
        for node in ast.walk(tree):
            if isinstance(node, ast.ImportFrom) and node.level and id(node) not in typing:
                base = ".".join([*package[: len(package) - node.level + 1], *([node.module] if node.module else [])])
                targets = {f"{base}.{one.name}".lstrip(".") for one in node.names}
                found[name] |= {target if target in files else base for target in targets} - {name}
    return found


def test_imports_run_down() -> None:
    floor = {room: number for number, names in enumerate(FLOORS) for room in names}
    up = [(name, other) for name, others in rooms().items() for other in others if other and floor[name.split(".")[0]] < floor[other.split(".")[0]]]
    assert up == []


def test_there_is_no_circle() -> None:
    left = rooms()
    left.pop("")
    while ground := {name for name, others in left.items() if not others & left.keys()}:
        left = {name: others for name, others in left.items() if name not in ground}
    assert left == {}


def test_no_database_knows_another() -> None:
    for name, others in rooms().items():
        mine = set(name.split(".")) & DATABASES
        for other in others:
            assert not mine or not (set(other.split(".")) & DATABASES) - mine, (name, other)


def test_files_are_small_and_doors_say_what_they_are_for() -> None:
    for path in HOUSE.rglob("*.py"):
        text = path.read_text()
        assert len(text.splitlines()) <= 420, path
        assert path.name == "__init__.py" or ast.get_docstring(ast.parse(text)), path
    assert not {path.stem for path in HOUSE.glob("*.py")} & set(rm.__all__), "a public function would be hidden by a module"
