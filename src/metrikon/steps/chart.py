"""chart: bars, lines or shares as PNG and SVG, readable in grey and at the size of a telephone; the same rows give the same bytes."""

from __future__ import annotations

import io
import threading
from collections.abc import Mapping
from decimal import Decimal
from typing import Any

from metrikon.core.values.series import NoChart, Series, series, written
from metrikon.core.values.text import clean
from metrikon.ports.step import Call, Outcome, StepFailed, Workshop

INK, SOFT, HAIR, PAPER = "#16211F", "#54625F", "#D5DEDB", "#FFFFFF"
# told apart by lightness and by hatching, so that nothing rests on colour alone
LOOKS = (
    ("#1F5C4D", "", "-", "o"),
    ("#A9CFC3", "", "--", "s"),
    ("#C98B2B", "////", "-.", "^"),
    ("#E7DCC3", "....", ":", "D"),
    ("#5A6C8F", "\\\\\\\\", "-", "v"),
    ("#C5CCDA", "xxx", "--", "P"),
    ("#7A3B52", "++", "-.", "X"),
    ("#EBCBD4", "oo", ":", "*"),
)
LINES = ("#1F5C4D", "#B26A00", "#5A6C8F", "#7A3B52", "#6DBFA6", "#16211F", "#C98B2B", "#54625F")  # of lines, which have dashes and marks besides
_DRAWING = threading.Lock()  # the settings of the library are those of the process


def run(call: Call, workshop: Workshop) -> Outcome:
    """The picture and the drawing, kept as files."""
    given = call.parameters
    rows = given["rows"]
    if not isinstance(rows, list):
        raise StepFailed("`rows` holds no list of rows. Name one, such as ${month.rows}.")
    try:
        found = series([each for each in rows if isinstance(each, Mapping)], str(given["along"]), str(given["amount"]), given.get("by"))
        pictures = drawn(found, str(given["draw"]), str(given["title"]), str(given["unit"]))
    except NoChart as error:
        raise StepFailed(f"{error} Correct the flow, then continue.") from error
    png, svg = (workshop.keep(each) for each in pictures)
    name = "".join(sign if sign.isalnum() or sign in " -_" else "" for sign in clean(str(given["title"]))).strip()[:80] or "Chart"
    return Outcome({"png": png, "svg": svg, "name": name}, made=(png, svg))


def drawn(found: Series, draw: str, title: str, unit: str) -> tuple[bytes, bytes]:
    """A chart as PNG (1440 by about 900 dots) and SVG. Raises `NoChart`."""
    import matplotlib  # a second to load: only where something is drawn
    from matplotlib.figure import Figure

    if draw == "shares" and any(amount is not None and amount < 0 for each in found.amounts for amount in each):
        raise NoChart("An amount is less than nothing, of which no share can be drawn. Draw bars.")
    settings: Any = {
        "text.parse_math": False,
        "svg.hashsalt": "metrikon",
        "font.size": 13,
        "hatch.linewidth": 1.2,
        "hatch.color": INK,
        "axes.edgecolor": SOFT,
        "text.color": INK,
        "xtick.color": INK,
        "ytick.color": INK,
    }
    with _DRAWING, matplotlib.rc_context(settings):
        lying = draw != "lines" and _lying(found)
        height = max(3.6, 1.3 + 0.42 * len(found.along) * (1 if draw == "shares" else max(1, 0.6 * len(found.names)))) if lying else 4.5
        figure = Figure(figsize=(7.2, min(height, 14)), dpi=200, facecolor=PAPER, layout="constrained")
        axes = figure.add_subplot()
        if not found.along:
            axes.text(0.5, 0.5, "There is nothing to show.", ha="center", va="center", transform=axes.transAxes)
            axes.set_axis_off()
        elif draw == "lines":
            _lines(axes, found)
        elif draw == "shares":
            _shares(axes, found)
        else:
            _bars(axes, found, lying=lying)
        if title:
            axes.set_title(clean(title), loc="left", fontweight="bold", fontsize=15, pad=14, wrap=True)
        if found.along:
            _frame(axes, unit if draw != "shares" else "%", lying=lying or (draw == "shares" and len(found.names) == 1))
        if len(found.names) > 1:
            figure.legend(
                frameon=False, fontsize=12, loc="outside lower left", ncols=2 if max(map(len, found.names)) > 14 else min(4, len(found.names))
            )
        return _saved(figure, "png", {"Software": None}), _saved(figure, "svg", {"Date": None, "Creator": None})


def _saved(figure: Any, form: str, metadata: dict[str, None]) -> bytes:
    out = io.BytesIO()
    figure.savefig(out, format=form, metadata=metadata)
    return out.getvalue()


def _lying(found: Series) -> bool:
    """Whether bars lie: where names are long or many, they are read beside them."""
    return len(found.along) * max(map(len, found.along), default=0) > 70


def _frame(axes: Any, unit: str, *, lying: bool) -> None:
    from matplotlib.ticker import MaxNLocator

    for side in ("top", "right", "left" if not lying else "bottom"):
        axes.spines[side].set_visible(False)
    (axes.xaxis if lying else axes.yaxis).grid(visible=True, color=HAIR, linewidth=0.8)
    axes.set_axisbelow(True)
    axes.tick_params(length=0)
    scale = axes.xaxis if lying else axes.yaxis
    scale.set_major_formatter(lambda value, _: f"{value:,.10g}")
    scale.set_major_locator(MaxNLocator(5))
    scale.set_tick_params(labelcolor=SOFT, labelsize=12)
    if unit:
        (axes.set_xlabel if lying else axes.set_ylabel)(clean(unit), color=SOFT, fontsize=12)


def _bars(axes: Any, found: Series, *, lying: bool) -> None:
    count, wide = len(found.names), 0.8 / len(found.names)
    for number, (name, amounts) in enumerate(zip(found.names, found.amounts, strict=True)):
        colour, hatch, _, _ = LOOKS[number]
        at = [place + (number - (count - 1) / 2) * wide for place in range(len(found.along))]
        values = [float(amount or 0) for amount in amounts]
        look = {"color": colour, "hatch": hatch, "label": name, "edgecolor": INK if hatch else colour, "linewidth": 0.6}
        made = axes.barh(at, values, wide * 0.92, **look) if lying else axes.bar(at, values, wide * 0.92, **look)
        if count * len(found.along) <= (24 if lying or count == 1 else 9):
            axes.bar_label(made, [written(amount) if amount is not None else "" for amount in amounts], padding=4, fontsize=11)
    axes.margins(**({"x": 0.14} if lying else {"y": 0.12}))
    _places(axes, found, lying=lying)


def _lines(axes: Any, found: Series) -> None:
    for number, (name, amounts) in enumerate(zip(found.names, found.amounts, strict=True)):
        _, _, dashes, mark = LOOKS[number]
        dark = LINES[number]
        values = [float(amount) if amount is not None else float("nan") for amount in amounts]
        axes.plot(range(len(values)), values, dashes, color=dark, marker=mark, markersize=7, linewidth=2, label=name)
    axes.margins(y=0.12)
    _places(axes, found, lying=False)


def _shares(axes: Any, found: Series) -> None:
    if len(found.names) == 1:
        pairs = sorted(zip(found.along, (amount or Decimal(0) for amount in found.amounts[0]), strict=True), key=lambda pair: -pair[1])
        whole = sum((amount for _, amount in pairs), Decimal(0))
        parts = [float(amount * 100 / whole) if whole else 0.0 for _, amount in pairs]
        made = axes.barh(range(len(pairs)), parts, 0.72, color=LOOKS[0][0])
        axes.bar_label(
            made,
            [f"{'under 1' if 0 < part < 1 else f'{part:.0f}'} %  ({written(amount)})" for part, (_, amount) in zip(parts, pairs, strict=True)],
            padding=4,
            fontsize=11,
        )
        axes.set_yticks(range(len(pairs)), [name for name, _ in pairs])
        axes.invert_yaxis()
        axes.margins(x=0.26)
        return
    wholes = [sum((each[place] or Decimal(0) for each in found.amounts), Decimal(0)) for place in range(len(found.along))]
    below = [0.0] * len(found.along)
    for number, (name, amounts) in enumerate(zip(found.names, found.amounts, strict=True)):
        colour, hatch, _, _ = LOOKS[number]
        parts = [float((amount or Decimal(0)) * 100 / whole) if whole else 0.0 for amount, whole in zip(amounts, wholes, strict=True)]
        axes.bar(range(len(parts)), parts, 0.72, bottom=below, color=colour, hatch=hatch, edgecolor=INK, linewidth=0.6, label=name)
        below = [one + other for one, other in zip(below, parts, strict=True)]
    _places(axes, found, lying=False)


def _places(axes: Any, found: Series, *, lying: bool) -> None:
    at = range(len(found.along))
    if lying:
        axes.set_yticks(at, found.along)
        axes.invert_yaxis()
        return
    step = max(1, len(found.along) // 12)
    turned = 30 if sum(map(len, found.along[::step])) > 60 else 0
    axes.set_xticks(list(at)[::step], found.along[::step], rotation=turned, ha="right" if turned else "center")
