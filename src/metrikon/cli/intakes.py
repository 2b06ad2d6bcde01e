"""intakes: what intakes of a flow would take and cost, a yes where one is wanted, what was let go, one chosen thing."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Mapping
from typing import Any, TextIO

from metrikon.cli.common import client, print_json, reaching, table, when


def add(commands: Any) -> None:
    """Add the commands."""
    found = commands.add_parser("intakes", help="where items come from: what is there, what it would cost, what was let go").add_subparsers(
        title="intakes", metavar="ACTION", required=True
    )
    listing = found.add_parser("list", help="the intakes of a flow, with where each stands")
    listing.set_defaults(run=run_list)
    previewing = found.add_parser(
        "preview",
        help="what an intake would take now, and what that would cost",
        description="What an intake would take now, newest first, and what that would cost, told from up to 30 that are read. Nothing is taken.",
    )
    previewing.add_argument("--listed", type=int, default=20, help="things that are listed (default: 20)")
    previewing.set_defaults(run=run_preview)
    testing = found.add_parser("test", help="make a real look that changes nothing, and say what it found")
    testing.set_defaults(run=run_test)
    agreeing = found.add_parser("yes", help="let an intake take what is there, where it waits for a yes")
    agreeing.set_defaults(run=run_yes)
    letting = found.add_parser("let-go", help="what an intake did not take, and why")
    letting.set_defaults(run=run_let_go)
    addressing = found.add_parser(
        "address",
        help="give an intake that things are sent to an address and a new secret",
        description="Give an intake that things are sent to an address, and a new secret, which is told this once; that before is worth nothing from then "
        "on. The address stays, unless --new-address is given.",
    )
    addressing.add_argument("--secret-stdin", action="store_true", help="read the secret from standard input, where the sender has made it")
    addressing.add_argument("--new-address", action="store_true", help="change the address as well")
    addressing.set_defaults(run=run_address)
    for each in (listing, previewing, testing, agreeing, letting, addressing):
        each.add_argument("flow")
        if each is not listing:
            each.add_argument("intake", nargs="?", default="", help="the intake by its name; the only one when left out")
        reaching(each)
    taking = found.add_parser(
        "take",
        help="take in one thing that an intake holds and run it end to end",
        description="Take in one thing that an intake of a flow holds, whatever its condition says, and run it end to end, though the flow may be "
        "switched off.",
    )
    taking.add_argument("flow")
    taking.add_argument("thing", help="its name, or its identity, as `intakes preview` lists them")
    taking.add_argument("--intake", default="", help="the intake; any that holds it when left out")
    reaching(taking)
    taking.set_defaults(run=run_take)


def run_list(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """The intakes of a flow."""
    with client(given) as service:
        found = service.intakes(given.flow)
    if given.json:
        print_json(found, out)
        return 0
    rows = [[each["name"], each["tells"], str(each["taken"]), str(each["let_go"]), _stands(each)] for each in found]
    table(rows, ["intake", "what comes in", "taken", "let go", ""], out)
    return 0


def _stands(each: Mapping[str, Any]) -> str:
    if each["failing_since"]:
        return f"fails since {when(each['failing_since'])}: {each['told']}"
    if each["waits"]:
        return f"waits for a yes: {_things(each['waits'])}, {_cost(each['waits'])}"
    if each["most"] is not None and each["taken"] >= each["most"]:
        return "has taken as many as it may"
    return str(each["told"] or each["address"])


def _things(would: Mapping[str, Any]) -> str:
    """How many things, and items where these are others: "3 things that make 5 items"."""
    count, makes = would["count"], would["makes"]
    things = f"{count:,} {'thing' if count == 1 else 'things'}"
    return things if makes == count else f"{things} that {'makes' if count == 1 else 'make'} {makes:,} {'item' if makes == 1 else 'items'}"


def _cost(would: Mapping[str, Any], currency: str = "") -> str:
    if would["unknown"]:
        return f"cost not known: {would['unknown']}"
    cost = would["high"] if would["low"] == would["high"] else f"{would['low']} to {would['high']}"
    return f"{cost} {currency}".strip() if would["high"] != "0" else "at no cost for models"


def run_preview(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """What an intake would take."""
    with client(given) as service:
        found = service.preview_intake(given.flow, given.intake or _only(service, given.flow), listed=given.listed)
    if given.json:
        print_json(found, out)
        return 0
    told = f"told from {found['read']} that were read" if found["read"] else ""
    cost = _cost(found, found["currency"])
    if not found["count"]:
        print("There is nothing that it would take.", file=out)
    else:
        print(f"It would take {_things(found)}, {found['size'] / 1e6:.1f} MB; {cost}{f' ({told})' if told else ''}.", file=out)
    besides = [("taken already", found["taken"]), ("from before that day", found["early"]), ("left, since it takes no more", found["beyond"])]
    for what, count in [*besides, *((f"let go: {why}", count) for why, count in found["let_go"].items())]:
        if count:
            print(f"{count:,} {what}", file=out)
    rows = [[each["name"], when(each["at"]), f"{each['size']:,}", each["why"]] for each in found["items"]]
    if rows:
        table(rows, ["name", "from", "bytes", "not taken, since"], out)
    return 0


def _only(service: Any, flow: str) -> str:
    """The only intake of a flow that is looked at, or else its first one."""
    found = service.intakes(flow)
    looked = [each["name"] for each in found if each["looked_at"]]
    return str((looked or [each["name"] for each in found])[0])


def run_test(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Test an intake."""
    with client(given) as service:
        told = service.test_intake(given.flow, given.intake or _only(service, given.flow))
    print_json({"told": told}, out) if given.json else print(told, file=out)
    return 0


def run_yes(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Say yes."""
    with client(given) as service:
        found = service.agree_to_intake(given.flow, given.intake or _only(service, given.flow))
    print_json(found, out) if given.json else print(f"{found['name']} takes what is there: {found['tells']}.", file=out)
    return 0


def run_address(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Make an address."""
    secret = sys.stdin.readline().rstrip("\r\n") if given.secret_stdin else None
    with client(given) as service:
        name = given.intake or _only(service, given.flow)
        found = service.make_address(given.flow, name, secret=secret, fresh=given.new_address)
    if given.json:
        print_json(found, out)
    else:
        secret = f"\nSecret:  {found['secret']}  (it is told this once)" if found["secret"] else ""
        print(f"Address: {found['address']}{secret}", file=out)
    return 0


def run_let_go(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """What was let go."""
    with client(given) as service:
        found = service.let_go(given.flow, given.intake or _only(service, given.flow))
    if given.json:
        print_json(found, out)
        return 0
    rows = [[each["name"], when(each["came_at"]), each["why"]] for each in found["items"]]
    table(rows, ["name", "from", "why"], out) if rows else print("It has let nothing go.", file=out)
    if found["count"] > len(rows):
        print(f"{found['count']:,} in all.", file=out)
    return 0


def run_take(given: argparse.Namespace, out: TextIO, err: TextIO) -> int:
    """Take one thing in."""
    with client(given) as service:
        found = service.take_one(given.flow, given.thing, given.intake)
    if given.json:
        print_json(found, out)
        return 0
    for each in found:
        known = "was taken before; its run is" if each["known"] else "runs as"
        print(f"{given.thing} {known} {each['run_id']}{', held as a likely repeat' if each['held'] else ''}.", file=out)
    return 0
