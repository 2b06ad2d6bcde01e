"""The docs are true: made pages are current, and nothing that can be set or run goes without a word."""

from __future__ import annotations

import re
import tomllib
from pathlib import Path

import pytest

from metrikon.cli.reference import pages

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
