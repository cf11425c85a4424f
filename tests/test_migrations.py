"""Migrations by the usual tools, of a table that is captured and followed: what is written before, between and after them arrives."""

from __future__ import annotations

import json
import subprocess
import sys
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest
from sqlalchemy.engine import make_url

import rapid_mender as rm

from . import databases

DJANGO = """
import json, sys
import django
from django.conf import settings

settings.configure(DATABASES={"default": json.loads(sys.argv[1])}, INSTALLED_APPS=["register"], USE_TZ=True)
if sys.argv[3] == "mariadb":
    import pymysql
    pymysql.install_as_MySQLdb()
django.setup()

from django.core.management import call_command
from django.db.models.signals import post_migrate, pre_migrate
import rapid_mender as rm

def pause(**given):
    if any(one.table == "register_tree" for one in rm.captures(sys.argv[2])):
        rm.pause_capture(sys.argv[2], "register_tree")

def resume(**given):
    if any(one.state == "paused" for one in rm.captures(sys.argv[2])):
        rm.resume_capture(sys.argv[2], "register_tree", mend=True)

pre_migrate.connect(pause)
post_migrate.connect(resume)
print("ready", flush=True)
for line in sys.stdin:
    call_command("migrate", "register", line.strip(), verbosity=0)
    print("done", flush=True)
"""
OPERATIONS = [
    'migrations.CreateModel("Tree", [("tag", models.IntegerField(primary_key=True)), ("kind", models.CharField(max_length=10, null=True)), '
    '("height", models.IntegerField(null=True)), ("code", models.CharField(max_length=20, null=True, unique=True))])',
    'migrations.AddField("Tree", "girth", models.IntegerField(null=True))',
    'migrations.RenameField("Tree", "height", "height_m")',
    'migrations.AlterField("Tree", "kind", models.CharField(max_length=90, null=True, db_index=True))',
    'migrations.RemoveField("Tree", "code")',
]
ENVIRONMENT = """
from alembic import context
from sqlalchemy import create_engine
import rapid_mender as rm

url = context.config.get_main_option("store")
captured = any(one.table == "register_tree" for one in rm.captures(url))
if captured:
    rm.pause_capture(url, "register_tree")
with create_engine(context.config.get_main_option("sqlalchemy.url")).connect() as connection:
    context.configure(connection=connection, render_as_batch=True)
    with context.begin_transaction():
        context.run_migrations()
    connection.commit()
if captured:
    rm.resume_capture(url, "register_tree", mend=True)
"""
STEPS = [
    'op.create_table("register_tree", sa.Column("tag", sa.Integer, primary_key=True), sa.Column("kind", sa.String(10)), sa.Column("height", sa.Integer), '
    'sa.Column("code", sa.String(20)), sa.UniqueConstraint("code", name="codes"))',
    'batch.add_column(sa.Column("girth", sa.Integer))',
    'batch.alter_column("height", new_column_name="height_m", existing_type=sa.Integer)',
    'batch.alter_column("kind", type_=sa.String(90), existing_type=sa.String(10))',
    'batch.drop_constraint("codes", type_="unique"); batch.drop_column("code")',
]


class Django:
    """Migrates by `migrate`, in a process of its own, with handlers of its signals."""

    def __init__(self, kind: str, url: str, folder: Path) -> None:
        at = make_url(url)
        engine = {"sqlite": "sqlite3", "postgresql": "postgresql", "mariadb": "mysql"}[kind]
        options = {"ENGINE": f"django.db.backends.{engine}", "NAME": at.database}
        options |= {"HOST": at.host or "", "PORT": at.port or "", "USER": at.username}
        (package := folder / "register" / "migrations").mkdir(parents=True)
        for one in (package.parent / "__init__.py", package.parent / "models.py", package / "__init__.py"):
            one.write_text("")
        for number, operation in enumerate(OPERATIONS, 1):
            before = f'[("register", "{number - 1:04}")]' if number > 1 else "[]"
            text = "from django.db import migrations, models\nclass Migration(migrations.Migration):\n"
            text += f"    dependencies = {before}\n    operations = [{operation}]\n"
            (package / f"{number:04}.py").write_text(text)
        words = [sys.executable, "-c", DJANGO, json.dumps(options), url, kind]
        self.process = subprocess.Popen(words, cwd=folder, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
        self.hear("ready")

    def hear(self, word: str) -> None:
        assert self.process.stdout is not None
        assert self.process.stdout.readline().strip() == word

    def migrate(self, number: int) -> None:
        assert self.process.stdin is not None
        self.process.stdin.write(f"{number:04}\n")
        self.process.stdin.flush()
        self.hear("done")

    def close(self) -> None:
        self.process.kill()
        self.process.communicate()


class Alembic:
    """Migrates by `upgrade`, with what its environment does around it."""

    def __init__(self, kind: str, url: str, folder: Path) -> None:
        from alembic.config import Config

        driver = {"sqlite": "sqlite", "postgresql": "postgresql+psycopg", "mariadb": "mysql+pymysql"}[kind]
        self.config = Config()
        for name, value in (("script_location", str(folder)), ("sqlalchemy.url", f"{driver}:{url.partition(':')[2]}"), ("store", url)):
            self.config.set_main_option(name, value.replace("%", "%%"))
        (versions := folder / "versions").mkdir()
        (folder / "env.py").write_text(ENVIRONMENT)
        for number, step in enumerate(STEPS, 1):
            body = step if number == 1 else f'with op.batch_alter_table("register_tree") as batch: {step}'
            head = (
                f'import sqlalchemy as sa\nfrom alembic import op\nrevision = "{number:04}"\ndown_revision = {f"{number - 1:04}" if number > 1 else None!r}\n'
            )
            (versions / f"{number:04}.py").write_text(f"{head}def upgrade():\n    {body}\n")

    def migrate(self, number: int) -> None:
        from alembic import command

        command.upgrade(self.config, f"{number:04}")

    def close(self) -> None:
        pass


@databases.every
@pytest.mark.parametrize("tool", [Django, Alembic])
def test_a_table_is_migrated_while_it_is_captured_and_followed(tool: type[Django | Alembic], kind: str, tmp_path: Path) -> None:
    with databases.table(kind, tmp_path) as (url, run):
        migrations = tool(kind, url, tmp_path)
        with closing(migrations):
            migrations.migrate(1)
            rm.capture(url, "register_tree")
            run("INSERT INTO register_tree (tag, kind, height, code) VALUES (1, 'oak', 3, 'a'), (2, 'elm', 4, 'b'), (3, 'ash', 5, 'c')")
            copy = f"sqlite:///{tmp_path / 'copy.db'}"
            (tmp_path / "copy.db").touch()
            job = rm.Sync(store=url, table="register_tree", to_store=copy, to_table="copy", follower="map", new_columns="add")
            rm.sync(job)
            for number in range(2, len(STEPS) + 1):
                height = "height" if number <= 3 else "height_m"
                run(f"UPDATE register_tree SET {height} = {height} + 1 WHERE tag > 1")
                migrations.migrate(number)
                height = "height" if number < 3 else "height_m"
                kinds = f"'{'k' * (60 if number >= 4 else 9)}'"
                run(
                    f"INSERT INTO register_tree (tag, kind, {height}, girth) VALUES ({number * 10}, {kinds}, 1, 2)",
                    f"DELETE FROM register_tree WHERE tag = {number * 10 - 10}",
                )
                run(f"UPDATE register_tree SET kind = {kinds} WHERE tag = {number - 1}")
                (capture,) = rm.captures(url)
                assert capture.state == "on"
                assert not [note for note in capture.notes if "refresh" in note], capture.notes
                assert rm.check(rm.Job(store=url, table="register_tree", key=["tag"])).problems == []
                rm.sync(job)
                if number == 3:  # what has another name is empty in the rows that are there
                    rm.compare(job, mend=True)
                assert same(url, copy), number
            verified = rm.verify(url, "register_tree")
            assert verified.holds, verified
            assert rm.history(url, "register_tree", key={"tag": 10 * len(STEPS)}).num_rows == 1
            rm.merge(rm.Job(store=url, table="register_tree", key=["tag"]), [{"tag": 1, "kind": "y" * 80}])
            rm.sync(job)
            assert same(url, copy)


def same(url: str, copy: str) -> bool:
    """Whether the rows of a table are in the other one."""
    there, here = ({row["tag"]: row for row in rows(*one)} for one in ((copy, "copy"), (url, "register_tree")))
    assert there.keys() == here.keys()
    assert all(there[tag] | row == there[tag] for tag, row in here.items()), (there, here)
    return True


def rows(url: str, table: str) -> list[dict[str, Any]]:
    with closing(databases.driver(url)) as connection:
        cursor = connection.cursor()
        cursor.execute(f"SELECT * FROM {table}")
        return [dict(zip([one[0] for one in cursor.description], row, strict=True)) for row in cursor.fetchall()]
