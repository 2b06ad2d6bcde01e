"""Values on their way into the columns of a database: each as its column holds it, exactly, or refused with the reason."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from datetime import UTC, date, datetime, time
from decimal import Decimal
from functools import partial
from typing import Any

from sqlalchemy import Boolean, Column, Date, DateTime, Float, Integer, Numeric, String, Table, Text, Time
from sqlalchemy.dialects import mysql
from sqlalchemy.types import TypeEngine, UserDefinedType

from metrikon.core.values.exact import dumps
from metrikon.destinations.cells import as_date, without_controls
from metrikon.ports.destination import Broken

DIGITS = 15  # that a number of SQLite holds exactly
WHOLE, PLACES = 38, 10  # digits of a number of MariaDB, and those of them after the point
_YES_NO = {"true": True, "false": False}


class Unfit(Broken):
    """A value that its column cannot hold."""


class ExactNumber(UserDefinedType[Any]):
    """A number of SQLite: handed over as its digits and given back as it stands; exact to 15 digits, which is seen to before."""

    cache_ok = True

    def __init__(self, precision: int | None = None, scale: int | None = None) -> None:
        self.precision, self.scale = precision, scale

    def get_col_spec(self, **_: Any) -> str:
        return "NUMERIC"

    def bind_processor(self, dialect: Any) -> Any:
        return lambda value: f"{value:f}" if isinstance(value, Decimal) else value


def exact(table: Table, dialect: str) -> Table:
    """A table as it was looked up, its types what they mean: numbers are ours where the database has floats for them; MariaDB has small numbers for yes/no."""
    for column in table.columns:
        kind: Any = column.type
        if dialect == "sqlite" and isinstance(kind, Numeric) and not isinstance(kind, Float):
            column.type = ExactNumber(kind.precision, kind.scale)
        elif isinstance(kind, mysql.TINYINT) and kind.display_width == 1:
            column.type = Boolean()
    return table


def type_for(value: Any, dialect: str) -> TypeEngine[Any]:
    """The type of a column that is made for a value."""
    if isinstance(value, bool):
        return Boolean()
    if isinstance(value, Decimal | int):
        return ExactNumber() if dialect == "sqlite" else Numeric(WHOLE, PLACES) if dialect == "mariadb" else Numeric()
    if isinstance(value, str) and as_date(value):
        return Date()
    if isinstance(value, str) and as_moment(value):
        return mysql.DATETIME(fsp=6) if dialect == "mariadb" else DateTime(timezone=as_moment(value).tzinfo is not None)  # type: ignore[union-attr]
    return mysql.LONGTEXT(charset="utf8mb4", collation="utf8mb4_bin") if dialect == "mariadb" else Text()


def key_type(dialect: str) -> TypeEngine[Any]:
    """The type of the column of our keys: letter by letter, blanks at the end and capitals counted."""
    return mysql.VARCHAR(200, charset="ascii", collation="ascii_bin") if dialect == "mariadb" else String(500)


def as_moment(text: str) -> datetime | None:
    """A date with a time from its ISO form; anything else is None."""
    if len(text) < 16 or text[10] not in "T " or not text[:4].isdecimal():
        return None
    try:
        return datetime.fromisoformat(text)
    except ValueError:
        return None


def fitted(column: Column[Any], value: Any, *, refuse: bool = False) -> Any:
    """A value as its column holds it. Raises `Unfit`. `refuse`: signs that it cannot hold are not left out, but refused."""
    return fitter(column, refuse=refuse)(value)


def fitter(column: Column[Any], *, refuse: bool = False) -> Callable[[Any], Any]:
    """What makes values fit for a column, worked out once for many of them; it raises as `fitted`."""
    kind: Any = column.type
    ways: list[tuple[Any, Callable[[Any], Any]]] = [
        (Boolean, lambda value: _yes_no(column, value)),
        (Float, lambda value: float(_number(column, value))),
        (Integer | Numeric | ExactNumber, lambda value: _in_bounds(column, _number(column, value))),
        (Date, lambda value: _day(column, value)),
        (DateTime, lambda value: _moment(column, value)),
        (Time, lambda value: _time(column, value)),
    ]
    way = next((way for types, way in ways if isinstance(kind, types)), None)
    if way is None:
        bounded = getattr(kind, "length", None) is not None or getattr(kind, "charset", None) is not None
        way = partial(_text, column, refuse=refuse) if bounded else _quick_text(partial(_text, column, refuse=refuse))
    elif isinstance(kind, ExactNumber) and kind.precision is None and kind.scale is None:
        way = _quick_number(way)
    return lambda value: None if value is None else way(value)


def each_of(values: Sequence[Any], made: Callable[[Any], Any]) -> list[Any]:
    """What is made of each value; of texts that come again and again, such as dates, once."""
    distinct = set(values) if all(type(each) is str for each in values) else ()
    if not distinct or 2 * len(distinct) > len(values):
        return [made(each) for each in values]
    known = {each: made(each) for each in distinct}
    return [known[each] for each in values]


def _quick_number(way: Callable[[Any], Any]) -> Callable[[Any], Any]:
    """What most numbers are takes no second look."""

    def quick(value: Any) -> Any:
        if type(value) is Decimal:
            _, digits, exponent = value.as_tuple()
            if len(digits) <= DIGITS and isinstance(exponent, int) and -DIGITS < exponent <= 0 and len(digits) - exponent <= DIGITS:
                return value
        elif type(value) is int and -(10**DIGITS) < value < 10**DIGITS:
            return Decimal(value)
        return way(value)

    return quick


def _quick_text(way: Callable[[Any], Any]) -> Callable[[Any], Any]:
    """What most texts are takes no second look."""
    return lambda value: value if type(value) is str and value.isprintable() else way(value)


def _wrong(column: Column[Any], value: Any, what: str) -> Unfit:
    shown = str(value)
    return Unfit(
        f"The column {column.name} holds {what}, and {shown[:60]!r}{' …' if len(shown) > 60 else ''} is none that fits. Correct the value, the mapping or the column."
    )


def _yes_no(column: Column[Any], value: Any) -> bool:
    if isinstance(value, bool):
        return value
    if isinstance(value, int) and value in (0, 1):
        return bool(value)
    if isinstance(value, str) and value.strip().lower() in _YES_NO:
        return _YES_NO[value.strip().lower()]
    raise _wrong(column, value, "yes or no (true or false)")


def _number(column: Column[Any], value: Any) -> Decimal:
    if isinstance(value, Decimal | int) and not isinstance(value, bool):
        return Decimal(value)
    raise _wrong(column, value, "numbers")


def _in_bounds(column: Column[Any], value: Decimal) -> Any:
    """A number with no more digits than its column keeps: databases round what is too much, in silence."""
    kind: Any = column.type
    if not value.is_finite():
        raise _wrong(column, value, "numbers")
    before, after = _digits(value)
    if isinstance(kind, Integer):
        if after:
            raise _wrong(column, value, "whole numbers")
        return int(value)
    if isinstance(kind, ExactNumber) and before + after > DIGITS:
        raise _wrong(column, value, f"numbers of at most {DIGITS} digits")
    precision, scale = getattr(kind, "precision", None), getattr(kind, "scale", None)
    if scale is None and precision is not None:
        scale = 0
    if scale is not None and after > scale:
        raise _wrong(column, value, f"numbers with at most {scale} places after the point")
    if precision is not None and before > precision - (scale or 0):
        raise _wrong(column, value, f"numbers with at most {precision - (scale or 0)} digits before the point")
    return value


def plain(value: Any) -> Any:
    """A value as it was found, a number without zeros that MariaDB has put at its end."""
    if isinstance(value, Decimal) and value.as_tuple().exponent == -PLACES:
        _, after = _digits(value)
        return Decimal(f"{value:.{after}f}") if value else Decimal(0)
    return value


def _digits(value: Decimal) -> tuple[int, int]:
    """How many digits a number has before its point and after it, zeros at its ends not counted."""
    _, digits, exponent = value.as_tuple()
    assert isinstance(exponent, int)
    given = len(digits)
    while given and not digits[given - 1]:
        given, exponent = given - 1, exponent + 1
    return max(0, given + exponent) if given else 0, max(0, -exponent) if given else 0


def _day(column: Column[Any], value: Any) -> date:
    found = as_date(value) if isinstance(value, str) else None
    moment = as_moment(value) if found is None and isinstance(value, str) else None
    if moment is not None and moment.time() == time():
        found = moment.date()
    if found is None:
        raise _wrong(column, value, "dates (such as 2026-03-04)")
    return found


def _moment(column: Column[Any], value: Any) -> datetime:
    """A date with a time; where the column knows no zone, that of UTC."""
    found = as_moment(value) if isinstance(value, str) else None
    day = as_date(value) if isinstance(value, str) and found is None else None
    if day is not None:
        found = datetime.combine(day, time())
    if found is None:
        raise _wrong(column, value, "dates with a time (such as 2026-03-04T09:30)")
    zoned = bool(getattr(column.type, "timezone", False))
    if found.tzinfo is not None and not zoned:
        return found.astimezone(UTC).replace(tzinfo=None)
    return found.replace(tzinfo=UTC) if zoned and found.tzinfo is None else found


def _time(column: Column[Any], value: Any) -> time:
    try:
        return time.fromisoformat(str(value))
    except ValueError as error:
        raise _wrong(column, value, "times (such as 09:30)") from error


def _text(column: Column[Any], value: Any, refuse: bool) -> str:
    text = (
        f"{value:f}"
        if isinstance(value, Decimal)
        else value
        if isinstance(value, str)
        else dumps(value).decode()
        if isinstance(value, dict | list | bool)
        else str(value)
    )
    kept = without_controls(text)
    if refuse and kept != text:
        raise _wrong(column, text, "text without control characters")
    longest = getattr(column.type, "length", None)
    if longest is not None and len(kept) > longest:
        if refuse or longest < 1000:
            raise _wrong(column, kept, f"text of at most {longest} characters")
        kept = kept[:longest]
    charset = getattr(column.type, "charset", None)
    return kept if charset is None else "".join(_in_charset(column, kept, str(charset), refuse))


_CHARSETS = {"latin1": "cp1252", "latin2": "iso8859-2", "ascii": "ascii", "cp1250": "cp1250", "greek": "iso8859-7", "hebrew": "iso8859-8"}


def _in_charset(column: Column[Any], text: str, charset: str, refuse: bool) -> Iterator[str]:
    """Text in the signs of a character set of MariaDB; "?" for each that it has not, or refused."""
    codec = _CHARSETS.get(charset)
    for sign in text:
        good = ord(sign) < 0x10000 if charset in ("utf8mb3", "utf8") else codec is None or bool(sign.encode(codec, "ignore"))
        if not good and refuse:
            raise _wrong(column, sign, f"signs of the character set {charset}")
        yield sign if good else "?"
