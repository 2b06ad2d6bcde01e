"""How values and ranges lie to each other (10.3.4.9); a plain value is taken for the range of itself where the standard has it so."""

from __future__ import annotations

from typing import Any

from metrikon.core.feel.functions.declared import function
from metrikon.core.feel.values import Range, compared


def _less(one: Any, two: Any) -> bool | None:
    return compared("<", one, two)


def _same(one: Any, two: Any) -> bool | None:
    return compared("=", one, two)


def _either(*parts: bool | None) -> bool | None:
    return True if any(each is True for each in parts) else None if any(each is None for each in parts) else False


def _both(*parts: bool | None) -> bool | None:
    return False if any(each is False for each in parts) else None if any(each is None for each in parts) else True


@function("before", "point1: point", "point2: point")
def _before_points(one: Any, two: Any) -> bool | None:
    return _less(one, two)


@function("before", "point: point", "range: range")
def _before_range(point: Any, range: Range) -> bool | None:
    return _either(_less(point, range.low), _both(_same(point, range.low), range.low_open))


@function("before", "range: range", "point: point")
def _range_before(range: Range, point: Any) -> bool | None:
    return _either(_less(range.high, point), _both(_same(range.high, point), range.high_open))


@function("before", "range1: range", "range2: range")
def _ranges_before(one: Range, two: Range) -> bool | None:
    return _either(_less(one.high, two.low), _both(_same(one.high, two.low), one.high_open or two.low_open))


@function("after", "point1: point", "point2: point")
def _after_points(one: Any, two: Any) -> bool | None:
    return _less(two, one)


@function("after", "point: point", "range: range")
def _after_range(point: Any, range: Range) -> bool | None:
    return _range_before(range, point)


@function("after", "range: range", "point: point")
def _range_after(range: Range, point: Any) -> bool | None:
    return _before_range(point, range)


@function("after", "range1: range", "range2: range")
def _ranges_after(one: Range, two: Range) -> bool | None:
    return _ranges_before(two, one)


@function("meets", "range1: range", "range2: range")
def _meets(one: Range, two: Range) -> bool | None:
    return _both(_same(one.high, two.low), not one.high_open, not two.low_open)


@function("met by", "range1: range", "range2: range")
def _met_by(one: Range, two: Range) -> bool | None:
    return _meets(two, one)


@function("overlaps", "range1: range", "range2: range")
def _overlaps(one: Range, two: Range) -> bool | None:
    above = _either(_less(two.low, one.high), _both(_same(one.high, two.low), not one.high_open, not two.low_open))
    below = _either(_less(one.low, two.high), _both(_same(one.low, two.high), not one.low_open, not two.high_open))
    return _both(above, below)


@function("overlaps before", "range1: range", "range2: range")
def _overlaps_before(one: Range, two: Range) -> bool | None:
    starts = _either(_less(one.low, two.low), _both(_same(one.low, two.low), not one.low_open, two.low_open))
    reaches = _either(_less(two.low, one.high), _both(_same(one.high, two.low), not one.high_open, not two.low_open))
    ends = _either(_less(one.high, two.high), _both(_same(one.high, two.high), _either(one.high_open, not two.high_open)))
    return _both(starts, reaches, ends)


@function("overlaps after", "range1: range", "range2: range")
def _overlaps_after(one: Range, two: Range) -> bool | None:
    starts = _either(_less(two.low, one.low), _both(_same(two.low, one.low), one.low_open, not two.low_open))
    reaches = _either(_less(one.low, two.high), _both(_same(two.high, one.low), not two.high_open, not one.low_open))
    ends = _either(_less(two.high, one.high), _both(_same(two.high, one.high), _either(two.high_open, not one.high_open)))
    return _both(starts, reaches, ends)


@function("finishes", "point: point", "range: range")
def _point_finishes(point: Any, range: Range) -> bool | None:
    return _both(not range.high_open, _same(range.high, point))


@function("finishes", "range1: range", "range2: range")
def _finishes(one: Range, two: Range) -> bool | None:
    starts = _either(_less(two.low, one.low), _both(_same(two.low, one.low), _either(not two.low_open, one.low_open)))
    return _both(one.high_open is two.high_open, _same(one.high, two.high), starts)


@function("finished by", "range: range", "point: point")
def _finished_by_point(range: Range, point: Any) -> bool | None:
    return _point_finishes(point, range)


@function("finished by", "range1: range", "range2: range")
def _finished_by(one: Range, two: Range) -> bool | None:
    return _finishes(two, one)


@function("includes", "range: range", "point: point")
def _includes_point(range: Range, point: Any) -> bool | None:
    return range.holds(point)


@function("includes", "range1: range", "range2: range")
def _includes(one: Range, two: Range) -> bool | None:
    starts = _either(_less(one.low, two.low), _both(_same(one.low, two.low), _either(not one.low_open, two.low_open)))
    ends = _either(_less(two.high, one.high), _both(_same(one.high, two.high), _either(not one.high_open, two.high_open)))
    return _both(starts, ends)


@function("during", "point: point", "range: range")
def _during_point(point: Any, range: Range) -> bool | None:
    return range.holds(point)


@function("during", "range1: range", "range2: range")
def _during(one: Range, two: Range) -> bool | None:
    return _includes(two, one)


@function("starts", "point: point", "range: range")
def _point_starts(point: Any, range: Range) -> bool | None:
    return _both(not range.low_open, _same(range.low, point))


@function("starts", "range1: range", "range2: range")
def _starts(one: Range, two: Range) -> bool | None:
    ends = _either(_less(one.high, two.high), _both(_same(one.high, two.high), _either(not two.high_open, one.high_open)))
    return _both(one.low_open is two.low_open, _same(one.low, two.low), ends)


@function("started by", "range: range", "point: point")
def _started_by_point(range: Range, point: Any) -> bool | None:
    return _point_starts(point, range)


@function("started by", "range1: range", "range2: range")
def _started_by(one: Range, two: Range) -> bool | None:
    return _starts(two, one)


@function("coincides", "point1: point", "point2: point")
def _coincide_points(one: Any, two: Any) -> bool | None:
    return _same(one, two)


@function("coincides", "range1: range", "range2: range")
def _coincides(one: Range, two: Range) -> bool | None:
    return _both(one.low_open is two.low_open, one.high_open is two.high_open, _same(one.low, two.low), _same(one.high, two.high))
