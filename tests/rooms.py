"""The rooms of the package and what they import; `python -m tests.rooms` draws them into docs/rooms.svg."""

from __future__ import annotations

import ast
from collections.abc import Iterator
from functools import cache
from html import escape
from pathlib import Path
from textwrap import wrap

import rapid_mender as rm

HOUSE = Path(rm.__file__).parent
PICTURE = Path(__file__).parent.parent / "docs" / "rooms.svg"
FLOORS = [
    ["errors", "spelling", "notebook"], ["core"], ["stores"], ["incoming"], ["jobs"], ["changes"], ["merging"], ["followers"], ["documents"], ["demo"], ["cli"],
    ["", "__main__"],
]  # fmt: skip
"""From the ground up."""
DATABASES = {"sqlite", "postgresql", "mariadb"}


@cache
def parsed(path: Path) -> ast.Module:
    return ast.parse(path.read_text())


def _statements(body: list[ast.stmt]) -> Iterator[ast.stmt]:
    """All statements, those within others too; not what is there for types only."""
    for one in body:
        yield one
        if not (isinstance(one, ast.If) and getattr(one.test, "id", "") == "TYPE_CHECKING"):
            for part in ("body", "orelse", "finalbody", "handlers", "cases"):
                for inner in getattr(one, part, []):
                    yield from _statements([inner] if isinstance(inner, ast.stmt) else inner.body)


@cache
def imports() -> dict[str, set[str]]:
    """Every module, and the modules that it imports; not what it names for types only."""
    files = {".".join(path.relative_to(HOUSE).with_suffix("").parts).removesuffix(".__init__").replace("__init__", ""): path for path in HOUSE.rglob("*.py")}
    found: dict[str, set[str]] = {}
    for name, path in files.items():
        package = [part for part in (name.split(".") if path.name == "__init__.py" else name.split(".")[:-1]) if part]
        found[name] = set()
        for node in _statements(parsed(path).body):
            if isinstance(node, ast.ImportFrom) and node.level:
                base = ".".join([*package[: len(package) - node.level + 1], *([node.module] if node.module else [])])
                targets = {f"{base}.{one.name}".lstrip(".") for one in node.names}
                found[name] |= {target if target in files else base for target in targets} - {name}
    return found


def picture() -> str:
    """The floors, the highest first, each with its rooms and with the floors that it imports from."""
    found, y, parts = imports(), 20, []
    for floor in reversed(FLOORS[:-1]):
        for room in floor:
            inside = sorted(name.removeprefix(f"{room}.") for name in found if name.startswith(f"{room}."))
            below = sorted({other.split(".")[0] for name, others in found.items() if name.split(".")[0] == room for other in others} - {room, ""})
            wings = sorted({name.split(".")[0] for name in inside if "." in name})
            lines = wrap(" · ".join(name for name in inside if "." not in name and name not in wings), 170)
            lines += [f"{wing}/   " + " · ".join(name.split(".")[1] for name in inside if name.startswith(f"{wing}.")) for wing in wings]
            height = 26 + 17 * len(lines)
            parts.append(f'<rect x="20" y="{y}" width="1040" height="{height}" rx="5" fill="#eef3ee" stroke="#7a8f7a"/>')
            parts.append(f'<text x="32" y="{y + 18}" font-weight="bold">{room}{"/" if inside else ".py"}</text>')
            parts.append(f'<text x="1048" y="{y + 18}" text-anchor="end" fill="#666">{escape("↓ " + ", ".join(below)) if below else ""}</text>')
            parts += [f'<text x="32" y="{y + 36 + 17 * at}" font-size="12">{escape(line)}</text>' for at, line in enumerate(lines)]
            y += height + 8
    head = f'<svg xmlns="http://www.w3.org/2000/svg" width="1080" height="{y + 12}" font-family="sans-serif" font-size="13">'
    return "\n".join([head, '<rect width="100%" height="100%" fill="white"/>', *parts, "</svg>\n"])


if __name__ == "__main__":
    PICTURE.write_text(picture())
