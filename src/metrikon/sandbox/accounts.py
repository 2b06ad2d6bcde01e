"""An old accounting program, simulated: it has a screen and no API. One signs in, looks for invoices, enters one with its rows and its paper; saving takes a while."""

from __future__ import annotations

import secrets
import socket
import threading
import time
from dataclasses import dataclass, field
from decimal import Decimal, InvalidOperation
from typing import Any

from flask import Blueprint, Response, redirect, render_template_string, request, url_for

USER, PASSWORD = "clerk", "ledger-1987"
VENDORS = ["Fernhill Nurseries", "Moorgate Seed", "Brackendale Growers", "Marlow Bulbs", "Miscellaneous"]
PARTS = {"FN-201": "Hart's-tongue fern, 9 cm", "FN-305": "Royal fern, 2 l", "MS-110": "Wild flower seed, 1 kg", "MISC": "Miscellaneous"}
LAYOUTS = {"": "as it always was", "moved": "other places, the same words", "renamed": "other words"}
_WORDS = {"number": "Invoice number", "vendor": "Vendor", "date": "Invoice date", "paper": "Paper", "save": "Save", "part": "Part", "price": "Price"}
_RENAMED = {**_WORDS, "number": "Document reference", "save": "Commit"}


@dataclass
class Accounts:
    """What the program holds, and how it behaves. `slow`: seconds that saving takes; `limit`: pages until a session is over, 0 for never; `lose`: answers to saving that are lost."""

    invoices: list[dict[str, Any]] = field(default_factory=list)
    slow: float = 0.2
    limit: int = 0
    layout: str = ""
    lose: int = 0
    notice: str = ""  # shown instead of the next page
    pressed: int = 0  # times that something was saved
    sessions: dict[str, int] = field(default_factory=dict)
    lock: threading.Lock = field(default_factory=threading.Lock)


_PAGE = """<!doctype html><html lang="en"><meta charset="utf-8"><title>{{ title }}</title>
<style>body{font:14px Verdana,sans-serif;margin:0;background:#d7dbe0;color:#111} header{background:#26476b;color:#fff;padding:8px 14px} header a{color:#fff;margin-left:16px}
main{margin:14px;background:#f4f4ee;border:1px solid #888;padding:14px} td,th{padding:3px 8px;text-align:left} input,select{font:inherit} .alert{background:#fbe3e0;border:1px solid #a33;padding:6px 10px;margin-bottom:10px}</style>
<header><b>Old Ledger 4.2</b> <a href="{{ url_for('accounts.listed') }}">Invoices</a> <a href="{{ url_for('accounts.fresh') }}">New invoice</a></header><main>
{% if told %}<div class="alert" role="alert">{{ told }}</div>{% endif %}{{ body|safe }}</main></html>"""
_SIGN_IN = """<h1>Sign in</h1><form method="post"><table><tr><td>User name</td><td><input name="user"></td></tr>
<tr><td>Password</td><td><input name="password" type="password"></td></tr></table><button>Sign in</button></form>"""
_LISTED = """<h1>Invoices</h1><form><label>Search <input name="q" value="{{ q }}"></label> <button>Find</button></form>
<table border="1"><tr><th>Number</th><th>Vendor</th><th>Date</th><th>Total</th></tr>{% for each in found %}<tr><td>{{ each.number }}</td><td>{{ each.vendor }}</td><td>{{ each.date }}</td><td>{{ each.total }}</td></tr>
{% else %}<tr><td colspan="4">Nothing found</td></tr>{% endfor %}</table>"""
_FRESH = """<h1>New invoice</h1><form method="post" enctype="multipart/form-data">
{% if layout == "moved" %}<p><button>{{ w.save }}</button></p><p>{{ w.date }} <input name="date"></p>{% endif %}
<table><tr><td>{{ w.number }}:</td><td><input name="number" autocomplete="off"></td></tr><tr><td>{{ w.vendor }}:</td><td><select name="vendor"><option value=""></option>{% for each in vendors %}<option>{{ each }}</option>{% endfor %}</select></td></tr>
{% if layout != "moved" %}<tr><td>{{ w.date }}:</td><td><input name="date"></td></tr>{% endif %}<tr><td>{{ w.paper }}:</td><td><input type="file" name="paper"></td></tr></table>
<table id="rows" border="1"><thead><tr><th>{{ w.part }}</th><th>Description</th><th>Quantity</th><th>{{ w.price }}</th></tr></thead><tbody></tbody></table>
<p><button type="button" id="more">Add row</button> Total <output id="total">0.00</output></p>
{% if layout != "moved" %}<button>{{ w.save }}</button>{% endif %}</form>
<script>
const parts = {{ parts|tojson }};
const sum = () => { let cents = 0; for (const row of document.querySelectorAll('#rows tbody tr')) { const [q, p] = ['quantity', 'price'].map((name) => Number(row.querySelector('[name=' + name + ']').value || 0)); cents += Math.round(q * p * 100); } document.getElementById('total').textContent = (cents / 100).toFixed(2); };
document.getElementById('more').onclick = () => {
  const row = document.querySelector('#rows tbody').insertRow();
  row.innerHTML = '<td><select name="part"><option value=""></option>' + Object.entries(parts).map(([code, told]) => '<option value="' + code + '">' + code + ' ' + told.replace(/'/g, '&#39;') + '</option>').join('') + '</select></td><td><input name="description"></td><td><input name="quantity" size="5"></td><td><input name="price" size="8"></td>';
  row.addEventListener('input', sum);
};
</script>"""


def blueprint(held: Accounts) -> Blueprint:
    """Its pages."""
    api = Blueprint("accounts", __name__)

    def shown(title: str, body: str, told: str = "", status: int = 200, **values: Any) -> Response:
        return Response(render_template_string(_PAGE, title=title, told=told, body=render_template_string(body, **values)), status)

    @api.before_request
    def known() -> Any:
        if request.endpoint == "accounts.sign_in" or request.path == "/accounts/settings":
            return None
        token = request.cookies.get("old_ledger", "")
        with held.lock:
            left = held.sessions.get(token, -1)
            if left > 0:
                held.sessions[token] = left - 1
        if left < 0 or left == 1:
            held.sessions.pop(token, None)
            return redirect(url_for("accounts.sign_in", next=request.path))
        if held.notice:
            told, held.notice = held.notice, ""
            return shown("Notice", "<h1>Notice</h1><p>{{ told }}</p>", told=told)
        return None

    @api.route("/accounts/sign-in", methods=["GET", "POST"])
    def sign_in() -> Any:
        if request.method == "GET":
            return shown("Sign in", _SIGN_IN)
        if (request.form.get("user"), request.form.get("password")) != (USER, PASSWORD):
            return shown("Sign in", _SIGN_IN, "User or password is wrong.", 401)
        token = secrets.token_hex(12)
        held.sessions[token] = held.limit + 1 if held.limit else 0
        target = request.args.get("next", "")
        answer = redirect(target if target.startswith("/accounts/") else url_for("accounts.listed"))
        answer.set_cookie("old_ledger", token, path="/accounts", httponly=True)
        return answer

    @api.get("/accounts/")
    def listed() -> Any:
        q = request.args.get("q", "")
        found = [each for each in held.invoices[::-1] if q.lower() in f"{each['number']} {each['vendor']}".lower()]
        return shown("Invoices", _LISTED, found=found[:50], q=q)

    @api.get("/accounts/invoices/new")
    def fresh() -> Any:
        words = _RENAMED if held.layout == "renamed" else _WORDS
        return shown("New invoice", _FRESH, w=words, vendors=VENDORS, parts=PARTS, layout=held.layout)

    @api.post("/accounts/invoices/new")
    def save() -> Any:
        made, wrong = _read()
        if wrong:
            return shown("New invoice", "<h1>Not saved</h1>", wrong, 422)
        time.sleep(held.slow)
        with held.lock:
            held.pressed += 1
            held.invoices.append(made)
            lost = held.lose > 0
            held.lose -= lost
        if lost:
            request.environ["werkzeug.socket"].shutdown(socket.SHUT_RDWR)  # the invoice is there, and nobody is told
        return shown("Saved", "<h1>Saved</h1><p>Invoice {{ number }} has been saved.</p>", number=made["number"])

    @api.post("/accounts/settings")
    def settings() -> Any:
        given = request.form
        held.layout = given.get("layout", "") if given.get("layout", "") in LAYOUTS else ""
        return redirect("/accounts/")

    return api


def _read() -> tuple[dict[str, Any], str]:
    """The invoice in a form, and what is wrong with it."""
    form = request.form
    number, vendor, day = (form.get(name, "").strip() for name in ("number", "vendor", "date"))
    rows = []
    try:
        for part, told, quantity, price in zip(*(form.getlist(name) for name in ("part", "description", "quantity", "price")), strict=True):
            rows.append({"part": part, "description": told, "quantity": Decimal(quantity or "1"), "price": Decimal(price)})
    except (InvalidOperation, ValueError):
        return {}, "A quantity or a price is no number."
    paper = request.files.get("paper")
    wrong = "The number is missing." if not number else "The vendor is missing." if not vendor else "The date is missing." if not day else ""
    if any(not each["part"] for each in rows):
        wrong = wrong or "A row has no part."
    total = sum((each["quantity"] * each["price"] for each in rows), Decimal(0))
    held = {"number": number, "vendor": vendor, "date": day, "rows": rows, "total": f"{total:.2f}"}
    return {**held, "paper": paper.read() if paper and paper.filename else b"", "file": paper.filename if paper else ""}, wrong
