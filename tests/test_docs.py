"""The docs are true: made pages are current, and nothing that can be set or run goes without a word."""

from __future__ import annotations

import ast
import re
import sys
import tomllib
from importlib.metadata import packages_distributions
from pathlib import Path

import pytest

from metrikon.app.kinds import kinds
from metrikon.cli import parser
from metrikon.cli.reference import commands_of, pages
from metrikon.cli.shapes import known_for_samples, whole_sample
from metrikon.core.flows.checking import checked
from metrikon.core.flows.kind import Kind

ROOT = Path(__file__).parents[1]


@pytest.mark.parametrize("name", sorted(pages()))
def test_the_reference_is_current(name: str) -> None:
    assert (ROOT / "docs" / name).read_text("utf-8") == pages()[name], "run `make docs`"


def test_every_dependency_has_its_reason() -> None:
    project = tomllib.loads((ROOT / "pyproject.toml").read_text("utf-8"))["project"]
    wanted = [*project["dependencies"], *(each for group in project["optional-dependencies"].values() for each in group)]
    text = (ROOT / "docs" / "dependencies.md").read_text("utf-8")
    names = {re.split(r"[<>=\[ ]", each)[0] for each in wanted}
    assert [name for name in names if f"`{name}`" not in text] == []


def test_what_is_imported_is_set_up_by_the_lock() -> None:
    names = (re.split(r"[=; ]", line)[0] for line in (ROOT / "requirements.lock").read_text("utf-8").splitlines() if line[:1].isalnum())
    locked = {re.sub(r"[-_.]+", "-", name).lower() for name in names}
    packages = packages_distributions()
    missing = {
        f"{module} ({path.relative_to(ROOT)})"
        for folder in ("src", "tests", "bench")
        for path in (ROOT / folder).rglob("*.py")
        for module in imported(ast.parse(path.read_text("utf-8")))
        if not locked & {re.sub(r"[-_.]+", "-", each).lower() for each in packages.get(module, [])}
    }
    assert missing == set()


def imported(tree: ast.Module) -> set[str]:
    """Modules from outside that a file imports, by the first part of their names; optional ones (an extra) are left out."""
    names = [each.name for part in ast.walk(tree) if isinstance(part, ast.Import) for each in part.names]
    names += [part.module for part in ast.walk(tree) if isinstance(part, ast.ImportFrom) and part.module and not part.level]
    return {name.split(".")[0] for name in names} - {*sys.stdlib_module_names, "metrikon", "tests", "bench", "faster_whisper"}


def test_the_locks_name_no_host() -> None:
    for name in ("requirements.lock", "console/package-lock.json"):
        text = (ROOT / name).read_text("utf-8")
        assert "resolved" not in text
        assert not re.search(r"https?://(registry|files|pypi)", text)


def test_every_picture_that_the_readme_shows_is_there() -> None:
    readme = (ROOT / "README.md").read_text("utf-8")
    shown = re.findall(r"\]\((docs/[^)#]+)\)", readme)
    assert shown
    assert [path for path in shown if not (ROOT / path).exists()] == []


def test_every_annotation_of_record_types_is_described() -> None:
    source = "\n".join(path.read_text("utf-8") for path in (ROOT / "src" / "metrikon").rglob("*.py") if "sandbox" not in path.parts)
    used = set(re.findall(r"\bours(?:\.get\(|\[)\"([a-z_]+)\"", source)) | set(
        re.findall(r"\(\"x-metrikon\"\) or \{\}\)\.get\(\"([a-z_]+)\"", source)
    )
    described = (ROOT / "docs" / "record-types.md").read_text("utf-8")
    assert len(used) >= 12
    assert [name for name in sorted(used) if f"`{name}`" not in described] == []


@pytest.mark.parametrize("kind", kinds().steps.values(), ids=lambda kind: str(kind.name))
def test_each_kind_of_step_has_a_sample_that_is_right(kind: Kind) -> None:
    _, problems = checked(whole_sample(kind), kinds().language, known_for_samples())
    assert [str(each) for each in problems] == []


def test_every_option_and_argument_of_every_command_says_what_it_is_for() -> None:
    silent = [
        f"{' '.join(path)} {action.dest}"
        for path, found, _ in commands_of(parser(), (), "")
        for action in found._actions
        if action.help in (None, "")
    ]
    assert silent == []


def test_every_intake_says_what_its_items_hold() -> None:
    assert [name for name, each in kinds().intakes.items() if not each.gives] == []
