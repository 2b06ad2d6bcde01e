"""A service of exchange rates, simulated: a list of days in the XML form of the European reference rates. No rates on Saturdays, Sundays and holidays."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta

from flask import Blueprint, Response

from metrikon.sandbox.page import page

BASE = {"CHF": 0.93, "GBP": 0.86, "JPY": 171.4, "NOK": 11.62, "SEK": 11.05, "USD": 1.09}
HOLIDAYS = ((1, 1), (5, 1), (12, 25), (12, 26))


def listed(until: date, days: int = 400) -> str:
    """The XML: the last days before and with one, the newest first. Made up, the same for the same day."""
    cubes = []
    for back in range(days):
        day = until - timedelta(days=back)
        if day.weekday() >= 5 or (day.month, day.day) in HOLIDAYS:
            continue
        rates = "".join(
            f'<Cube currency="{name}" rate="{base * (1 + ((day.toordinal() * 7 + number * 31) % 41 - 20) / 1000):.4f}"/>'
            for number, (name, base) in enumerate(BASE.items())
        )
        cubes.append(f'<Cube time="{day}">{rates}</Cube>')
    return (
        '<?xml version="1.0" encoding="UTF-8"?><gesmes:Envelope xmlns:gesmes="http://www.gesmes.org/xml/2002-08-01" '
        'xmlns="http://www.ecb.int/vocabulary/2002-08-01/eurofxref"><gesmes:subject>Reference rates (made up)</gesmes:subject>'
        f"<Cube>{''.join(cubes)}</Cube></gesmes:Envelope>"
    )


def blueprint() -> Blueprint:
    """The routes."""
    api = Blueprint("rates", __name__)

    @api.get("/rates/days.xml")
    def days() -> Response:
        return Response(listed(datetime.now(UTC).date()), content_type="application/xml")

    @api.get("/rates")
    def rates_page() -> str:
        return page("Exchange rates", "GET /rates/days.xml: units of each currency for one euro, of weekdays.", [", ".join(BASE)], {})

    return api
