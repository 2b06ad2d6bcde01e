"""What the README and the docs show is true: each command runs, each flow is kept, each file that is named is there."""

from __future__ import annotations

import re
import shlex
from collections.abc import Callable, Iterator
from glob import glob
from io import StringIO
from pathlib import Path
from typing import Any

import pytest

from metrikon.app.kinds import kinds
from metrikon.cli import main, parser
from metrikon.core.entering.way import way_from
from metrikon.core.flows.checking import checked
from metrikon.core.flows.kind import Known
from metrikon.core.flows.text import from_yaml
from metrikon.core.records.types import record_type
from metrikon.core.services.notes import Notes
from metrikon.core.values.exact import loads
from metrikon.demo import scenario
from metrikon.models.specs import specs_in
from metrikon.sandbox.model_server import NAME, ModelServer
from tests.helpers import Running

ROOT = Path(__file__).parents[2]
PAGES = (
    "README.md",
    *sorted(f"docs/{path.name}" for path in (ROOT / "docs").glob("*.md") if path.name not in ("reference.md", "bench.md", "prove.md")),
)
STANDS_FOR = {"FILE", "RUN", "ITEM", "RECORD", "ID", "URL", "NAME", "FLOW"}  # words in a command that a reader puts something else for
OUTSIDE = ("serve", "demo", "sandbox")  # commands that begin a service: the tests of the command line run them


def blocks(*kinds: str) -> Iterator[tuple[str, str]]:
    """Every block of these kinds in the pages: the page with its line, and the text."""
    for page in PAGES:
        kind, begun, lines = None, 0, list[str]()
        for number, line in enumerate((ROOT / page).read_text("utf-8").splitlines(), 1):
            if not line.startswith("```"):
                lines.append(line)
            elif kind is None:
                kind, begun, lines = line[3:], number, []
            else:
                if kind in kinds:
                    yield f"{page}:{begun}", "\n".join(lines)
                kind = None


def commands() -> Iterator[tuple[str, list[str]]]:
    """Every command of ours that a block shows, in its words."""
    for where, text in blocks("sh", ""):
        for line in text.splitlines():
            shown = re.match(r"\s*(?:\.venv/bin/)?metrikon (.*)", line)
            for part in shown[1].split("; metrikon ") if shown else ():
                yield where, shlex.split(part, comments=True)


def samples() -> list[Any]:
    return [pytest.param(text, id=where) for where, text in blocks("yaml")]


@pytest.mark.parametrize("text", samples())
def test_each_sample_in_yaml_is_what_the_program_takes(text: str, tmp_path: Path) -> None:
    data = from_yaml(text)
    if isinstance(data, list):
        (tmp_path / "models.yaml").write_text(text)
        assert specs_in(tmp_path / "models.yaml")
    elif "way" in data:
        assert way_from(data).takes
    elif "records" in data:
        assert Notes.model_validate(data).records
    else:
        whole = {"metrikon": 1, "name": "sample", "intakes": [{"kind": "upload"}], "steps": [{"name": "end", "stop": {"reason": "x"}}]}
        lines = "\n".join(f"{name}: {_inline(value)}" for name, value in whole.items() if name not in data)
        invoice = record_type(loads(scenario.invoice_type()), "invoice")
        _, problems = checked(f"{lines}\n{text}", kinds().language, Known({"invoice": invoice}, whole=False))
        assert [str(each) for each in problems] == [], "each name in it is given in it"


def _inline(value: Any) -> str:
    return str(value).replace("'", '"')


def test_each_command_that_is_shown_is_one_with_options_that_there_are() -> None:
    found = list(commands())
    assert len(found) > 40
    for where, words in found:
        try:
            parser(words[0]).parse_args(words)
        except SystemExit as wrong:
            raise AssertionError(f"{where}: metrikon {shlex.join(words)}") from wrong


def test_each_file_that_a_command_of_the_readme_names_is_there() -> None:
    named = [
        word for where, words in commands() if where.startswith("README") for word in words if "/" in word and "://" not in word and "=" not in word
    ]
    assert len(named) > 10
    assert [word for word in named if not glob(str(ROOT / word))] == []


@pytest.fixture
def model() -> Iterator[ModelServer]:
    server = ModelServer().start()
    yield server
    server.stop()


def test_the_commands_of_the_readme_run_one_after_the_other(
    running: Callable[..., Running], model: ModelServer, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(ROOT)
    service = running()
    service.client.put_record_type("order_request", (scenario.folder() / "record_types" / "order_request.json").read_text())
    service.client.put_decision_table("approvals", (scenario.folder() / "decision_tables" / "approvals.yaml").read_text())
    service.client.put_flow("order-requests", (scenario.folder() / "flows" / "order-requests.yaml").read_text())
    named = {"URL": model.url, "NAME": NAME}
    reach = ["--url", service.url, "--token", service.token]
    ran = 0
    for where, words in commands():
        if not where.startswith("README") or words[0] in OUTSIDE:
            continue
        at_home = words.index("--home") if "--home" in words else None
        words = words if at_home is None else words[:at_home] + words[at_home + 2 :]
        given = [each for word in words for each in (sorted(glob(word)) if "*" in word else [named.get(word, word)])]
        offline = words[0] in ("read", "extract", "classify", "judge", "compare", "trial")
        out, err = StringIO(), StringIO()
        code = main(given if offline else [*given, *reach], out, err)
        assert code == 0, f"{where}: metrikon {shlex.join(words)}: {out.getvalue()}{err.getvalue()}"
        assert out.getvalue().strip(), f"{where}: metrikon {shlex.join(words)} says nothing"
        ran += 1
        if words[0] == "upload":
            run = service.client.run(next(each.id for each in service.client.runs() if each.flow == "supplier-invoices"))
            assert run.record_id is not None
            named |= {"RUN": run.id, "ITEM": run.item_id, "RECORD": run.record_id}
    assert ran > 20
    assert named.keys() <= STANDS_FOR
