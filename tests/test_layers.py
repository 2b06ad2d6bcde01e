"""The plan of the house holds: each layer imports only what stands before it."""

from __future__ import annotations

import ast
from pathlib import Path

import pytest

import metrikon

ROOT = Path(metrikon.__file__).parent
LAYERS = {
    "core": 0,
    "ports": 1,
    "store": 2,
    "connections": 2,
    "readers": 3,
    "models": 3,
    "transcription": 3,
    "intakes": 3,
    "destinations": 3,
    "drivers": 4,
    "steps": 5,
    "engine": 6,
    "app": 7,
    "service": 8,
    "sandbox": 8,
    "demo": 8,
    "cli": 9,
}
PURE = ("flask", "sqlalchemy", "httpx", "requests", "socket", "subprocess", "threading", "time", "os", "pathlib", "tempfile", "random", "logging")
FILES = sorted(ROOT.rglob("*.py"))


def imported(path: Path) -> set[str]:
    found: set[str] = set()
    for part in ast.walk(ast.parse(path.read_text("utf-8"))):
        if isinstance(part, ast.Import):
            found.update(name.name for name in part.names)
        elif isinstance(part, ast.ImportFrom) and part.module:
            found.add(part.module)
            found.update(f"{part.module}.{name.name}" for name in part.names)
    return found


def layer(path: Path) -> str:
    return path.relative_to(ROOT).parts[0].removesuffix(".py")


@pytest.mark.parametrize("path", FILES, ids=lambda path: str(path.relative_to(ROOT)))
def test_a_module_imports_only_layers_before_its_own(path: Path) -> None:
    own = layer(path)
    for name in imported(path):
        parts = name.split(".")
        if parts[0] != "metrikon" or len(parts) < 2 or parts[1] not in LAYERS or own not in LAYERS:
            continue
        allowed = parts[1] == own or LAYERS[parts[1]] < LAYERS[own]
        assert allowed, f"{own} must not import {parts[1]}"


@pytest.mark.parametrize("path", [p for p in FILES if layer(p) == "core"], ids=lambda path: str(path.relative_to(ROOT)))
def test_the_core_touches_nothing_outside(path: Path) -> None:
    assert not {name.split(".")[0] for name in imported(path)} & set(PURE)


@pytest.mark.parametrize("path", [p for p in FILES if layer(p) == "client"], ids=lambda path: path.name)
def test_the_client_imports_nothing_of_the_house(path: Path) -> None:
    assert not [name for name in imported(path) if name.startswith("metrikon.") and not name.startswith("metrikon.client")]


@pytest.mark.parametrize("path", [p for p in FILES if layer(p) == "sandbox"], ids=lambda path: path.name)
def test_the_sandbox_shares_no_code_with_what_it_stands_in_for(path: Path) -> None:
    assert not [name for name in imported(path) if name.startswith("metrikon.") and not name.startswith("metrikon.sandbox")]


def test_no_file_has_grown_into_a_hall() -> None:
    long = {str(path.relative_to(ROOT)): lines for path in FILES if (lines := len(path.read_text("utf-8").splitlines())) > 450}
    assert not long


SQL = {"select", "insert", "update", "delete", "text", "func"}


@pytest.mark.parametrize(
    "path", [each for each in FILES if layer(each) in ("core", "ports", "steps", "engine", "app", "service")], ids=lambda path: path.name
)
def test_what_is_stored_is_asked_for_in_the_store_alone(path: Path) -> None:
    names = imported(path)
    assert not {f"sqlalchemy.{each}" for each in SQL} & names
    assert "metrikon.store.tables" not in names


def test_what_is_taken_for_a_number_really_is_one() -> None:
    """`"²".isdigit()` holds, and `int("²")` raises: figures that strangers send are asked about with `isdecimal`."""
    asked = [str(path.relative_to(ROOT)) for path in FILES if ".isdigit()" in path.read_text("utf-8")]
    assert not asked
