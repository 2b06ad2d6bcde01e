"""The table and the plot of the measurements."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import date
from pathlib import Path


@dataclass(frozen=True)
class Result:
    """One measurement: a ratio, what was wanted of it, and the figures behind it."""

    name: str
    ratio: float
    wanted: str
    good: bool
    behind: str

    @property
    def shown(self) -> str:
        return f"{self.ratio:.2f}"


SCORES: list[tuple[str, str, float]] = []


def note(what: str, document: str, share: float) -> None:
    """Keep the score of one document, for the table of all."""
    SCORES.append((what, document, share))


def result(name: str, ratio: float, wanted: str, holds: Callable[[float], bool], behind: str) -> Result:
    """A result that says whether it is good."""
    return Result(name, ratio, wanted, holds(ratio), behind)


def write(folder: Path, results: list[Result], where: str) -> None:
    """docs/bench.md and docs/bench.png."""
    lines = [
        "# Measurements",
        "",
        f"Made by `make bench` on {date.today().isoformat()}, {where}. Each is a ratio of two figures of the same run, so that a slow",
        "machine changes little.",
        "",
        "| what | ratio | wanted | | figures behind it |",
        "|---|---:|---|---|---|",
    ]
    for each in results:
        lines.append(f"| {each.name} | {each.shown} | {each.wanted} | {'holds' if each.good else '**does not hold**'} | {each.behind} |")
    lines += ["", "![The ratios against what was wanted](bench.png)", ""]
    lines += [
        "With a real small model, by hand: [documents of other hands](bench-real-model.md).",
        "",
    ]
    if SCORES:
        lines += ["## Each document", "", "| what was scored | document | share that is right |", "|---|---|---:|"]
        lines += [f"| {what} | {document} | {share:.3f} |" for what, document, share in SCORES] + [""]
    (folder / "bench.md").write_text("\n".join(lines), "utf-8")
    _plot(folder / "bench.png", results)


def _plot(path: Path, results: list[Result]) -> None:
    import matplotlib as mpl

    mpl.use("Agg")
    import matplotlib.pyplot as plt

    figure, axes = plt.subplots(figsize=(9, 0.55 * len(results) + 1.2))
    names = [each.name for each in results][::-1]
    values = [each.ratio for each in results][::-1]
    colours = ["#1F5C4D" if each.good else "#A8261C" for each in results][::-1]
    axes.barh(names, values, color=colours, height=0.55)
    for number, each in enumerate(results[::-1]):
        axes.text(each.ratio + 0.02, number, f"{each.shown}  (wanted {each.wanted})", va="center", fontsize=9)
    axes.set_xlim(0, max(values) * 2)
    axes.set_xlabel("ratio")
    axes.spines[["top", "right"]].set_visible(False)
    figure.tight_layout()
    figure.savefig(path, dpi=110)
