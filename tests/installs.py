"""What users install: `python -m tests.installs` runs the demo and the examples with the lowest versions that pyproject.toml
allows, and with the newest on the newest Python that is to be had."""

from __future__ import annotations

import re
import shutil
import subprocess
import sys
import tempfile
import tomllib
from pathlib import Path

ROOT = Path(__file__).parent.parent
NEWER = ("python3.14", "python3.13", "python3.12")


def lowest() -> list[str]:
    """Each package that the project needs, or can use, at its lower bound."""
    project = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]
    extras = project["optional-dependencies"]
    wanted = [*project["dependencies"], *extras["frames"], *extras["postgresql"], *extras["mariadb"]]
    return [re.sub(r"\s*>=\s*", "==", one) for one in wanted]


def newest() -> str:
    """The newest Python here that starts: a shim may be of one that does not."""
    found = (shutil.which(name) for name in NEWER)
    starts = (one for one in found if one and not subprocess.run([one, "-c", ""], capture_output=True, check=False).returncode)
    return next(starts, sys.executable)


def run(folder: Path, python: str, *packages: str) -> None:
    """Install packages and the project into a folder, and run what users would run. Raises CalledProcessError."""
    subprocess.run([python, "-m", "venv", str(folder)], check=True)
    mine = str(folder / "bin" / "python")
    subprocess.run([mine, "-m", "pip", "install", "--quiet", "--disable-pip-version-check", *packages], check=True)
    examples = sorted((ROOT / "examples").glob("*.py"))
    for words in (["-m", "rapid_mender", "demo", str(folder / "harrowmere")], *([str(path)] for path in examples)):
        subprocess.run([mine, *words], check=True, cwd=folder, stdout=subprocess.DEVNULL)
        print(f"{python}: {words[-1]} ran", flush=True)


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as scratch:
        run(Path(scratch) / "lowest", sys.executable, *lowest(), str(ROOT))
        run(Path(scratch) / "newest", newest(), f"{ROOT}[all]")
