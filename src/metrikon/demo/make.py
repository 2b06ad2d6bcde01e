"""Make the files of the demo: `python -m metrikon.demo.make [FOLDER]`, or with --invent N any number of new ones."""

from __future__ import annotations

import argparse
import secrets
import sys
from pathlib import Path
from typing import Any

import msgspec

from metrikon.core.values.exact import dumps

DOCUMENTS = Path(__file__).parent / "documents"


def main(arguments: list[str] | None = None) -> int:
    """Write documents and, beside each, its right record."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("folder", nargs="?", type=Path, default=DOCUMENTS)
    parser.add_argument("--invent", type=int, metavar="N", help="draw N invoices nobody has seen, each with its own layout")
    parser.add_argument("--seed", type=int, help="draw the same ones again")
    given = parser.parse_args(arguments)
    given.folder.mkdir(parents=True, exist_ok=True)
    if given.invent:
        from metrikon.demo.invent import invent

        seed = secrets.randbelow(10**6) if given.seed is None else given.seed
        print(f"seed {seed}: draw the same again with --seed {seed}")
        for each_invented in invent(seed, given.invent):
            _write(given.folder / f"{each_invented.name}.pdf", each_invented.data, {"record": each_invented.right, "outcome": "", "because": ""})
    else:
        from metrikon.demo.garden import sent

        for one in sent():
            _write(given.folder / one.name, one.data, {"record": one.right, "outcome": one.outcome, "because": one.because})
        from metrikon.demo.letters import letters, lists
        from metrikon.demo.mixed import mixed

        for part, files in (("applications", letters()), ("prices", lists())):
            (given.folder.parent / part).mkdir(exist_ok=True)
            for name, data in files:
                (given.folder.parent / part / name).write_bytes(data)
        from metrikon.demo.report_template import NAME, template

        (given.folder.parent / "templates").mkdir(exist_ok=True)
        (given.folder.parent / "templates" / NAME).write_bytes(template())
        post = given.folder.parent / "mixed"
        post.mkdir(exist_ok=True)
        for each in mixed():
            _write(post / each.name, each.data, each.right())
            if each.said:
                (post / f"{each.name}.said.json").write_text(msgspec.json.format(dumps(each.said), indent=1).decode() + "\n", "utf-8")
    print(f"{len(list(given.folder.glob('*.right.json')))} documents in {given.folder}")
    return 0


def _write(path: Path, data: bytes, right: dict[str, Any]) -> None:
    path.write_bytes(data)
    text = msgspec.json.format(dumps(right), indent=1).decode()
    path.with_name(path.name + ".right.json").write_text(text + "\n", "utf-8")


if __name__ == "__main__":
    sys.exit(main())
