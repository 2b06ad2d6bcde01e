"""Calls to the service. One object may be used from several threads."""

from __future__ import annotations

import json
import time
from collections.abc import Iterator, Mapping, Sequence
from decimal import Decimal
from pathlib import Path
from types import TracebackType
from typing import Any, Self
from urllib.parse import quote

import httpx

from metrikon.client.connections import ConnectionCalls
from metrikon.client.errors import NotAllowed, NotFound, NotSettled, Refused, ServiceError, Unreachable
from metrikon.client.flows import FlowCalls
from metrikon.client.intakes import IntakeCalls
from metrikon.client.judgements import JudgementCalls
from metrikon.client.people import PeopleCalls
from metrikon.client.things import Arrived, Correction, EnteredSoFar, Entry, HeardSoFar, Item, Record, Run
from metrikon.client.ways import WayCalls


class Client(ConnectionCalls, FlowCalls, IntakeCalls, JudgementCalls, PeopleCalls, WayCalls):
    """A service at an address. `token` comes from `metrikon tokens add`; `person`: for whom is asked, which is kept beside what is decided."""

    def __init__(
        self,
        url: str,
        token: str = "",
        *,
        timeout: float = 60.0,
        transport: httpx.BaseTransport | None = None,
        language: str = "",
        person: str = "",
    ) -> None:
        headers = {"Authorization": f"Bearer {token}"} if token else {}
        headers |= {"Accept-Language": language} if language else {}
        headers |= {"Metrikon-Person": quote(person, safe="")} if person else {}
        self.url = url.rstrip("/")
        self._http = httpx.Client(base_url=self.url, headers=headers, timeout=timeout, transport=transport, trust_env=False)

    def __enter__(self) -> Self:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self.close()

    def close(self) -> None:
        """Let go of connections."""
        self._http.close()

    def upload(self, flow: str, file: str | Path | bytes, *, name: str = "", identity: str = "") -> Arrived:
        """Send a file to a flow. With an `identity`, sending again gets the same answer and starts nothing new."""
        data = file if isinstance(file, bytes) else Path(file).read_bytes()
        shown = name or ("unnamed" if isinstance(file, bytes) else Path(file).name)
        headers = {"Content-Type": "application/octet-stream"} | ({"Idempotency-Key": identity} if identity else {})
        sent = self._ask("POST", f"/api/flows/{flow}/items", content=data, headers=headers, params={"name": shown})
        return Arrived.of({**sent, "others": tuple(Arrived.of(each) for each in sent.get("others", ()))})

    def wait(self, run_id: str, timeout: float = 60.0, *, person: bool = False) -> Run:
        """Wait until a run settles or needs a person. With `person`, go on waiting for the person too.

        Raises `NotSettled` when the time is over; the run goes on all the same.
        """
        end, pause = time.monotonic() + timeout, 0.05
        while True:
            run = self.run(run_id)
            if run.settled or (run.needs_person and not person):
                return run
            if time.monotonic() >= end:
                raise NotSettled(run_id, run.state, timeout)
            time.sleep(pause)
            pause = min(pause * 1.5, 1.0)

    def run(self, run_id: str) -> Run:
        """A run with its journal."""
        data = self._ask("GET", f"/api/runs/{run_id}")
        heard = HeardSoFar.of(data["heard"]) if data.get("heard") else None
        entering = EnteredSoFar.of(data["entering"]) if data.get("entering") else None
        journal = tuple(Entry.of(each) for each in data["journal"])
        corrections = tuple(Correction.of(each) for each in data.get("corrections", ()))
        return Run.of({**data, "journal": journal, "corrections": corrections, "heard": heard, "entering": entering})

    def runs(self, *, flow: str = "", state: str = "", item: str = "") -> Iterator[Run]:
        """Runs, newest first, page by page. `state`: one or more, parted by commas."""
        for data in self._pages("/api/runs", {"flow": flow, "state": state, "item": item}):
            yield Run.of(data)

    def items(self, *, flow: str = "", state: str = "", search: str = "") -> Iterator[Item]:
        """Items, newest first, each with its latest run."""
        for data in self._pages("/api/items", {"flow": flow, "state": state, "q": search}):
            yield Item.of(data)

    def item(self, item_id: str) -> dict[str, Any]:
        """An item with its runs, newest first, and what its intake knows of it under `data`."""
        return dict(self._ask("GET", f"/api/items/{item_id}"))

    def records(self, *, record_type: str = "", state: str = "", search: str = "") -> Iterator[Record]:
        """Records, newest first, without their evidence."""
        for data in self._pages("/api/records", {"record_type": record_type, "state": state, "q": search}):
            yield Record.of(data)

    def record(self, record_id: str) -> Record:
        """A record with its evidence."""
        return Record.of(self._ask("GET", f"/api/records/{record_id}"))

    def check(self, record_id: str, values: Mapping[str, Any]) -> dict[str, Any]:
        """What the checks would say of a record with these values; nothing is kept."""
        return dict(self._ask("POST", f"/api/records/{record_id}/check", body={"values": values}))

    def approve(self, record_id: str, values: Mapping[str, Any] | None = None, comment: str = "") -> Record:
        """Approve a record, corrected if values are given."""
        return Record.of(self._ask("POST", f"/api/records/{record_id}/approve", body={"values": values, "comment": comment}))

    def correct(self, record_id: str, values: Mapping[str, Any], comment: str = "", *, yes: bool = False) -> dict[str, Any]:
        """Correct a record after it was written: its `values` as read, what `came` of it and what becomes of that, and the `run_id` that puts it right.

        Without `yes` it is only told.
        """
        return dict(self._ask("POST", f"/api/records/{record_id}/correct", body={"values": values, "comment": comment, "yes": yes}))

    def take_back(self, run_id: str, *, yes: bool = False) -> dict[str, Any]:
        """Take back what a run has sent out: `items`, each with its delivery, and why it `stays` where it does. Without `yes` it is only told."""
        return dict(self._ask("POST", f"/api/runs/{run_id}/take-back", body={"yes": yes}))

    def take_back_version(self, flow: str, version: int, *, count: int | None = None) -> dict[str, Any]:
        """The same for all settled runs of a version of a flow. Without `count`, the number of runs that was told, it is only told."""
        body = {"version": version, **({"count": count} if count is not None else {})}
        return dict(self._ask("POST", f"/api/flows/{flow}/take-back", body=body))

    def refuse(self, record_id: str, comment: str) -> Record:
        """Refuse a record with a reason; nothing of it is written."""
        return Record.of(self._ask("POST", f"/api/records/{record_id}/refuse", body={"comment": comment}))

    def continue_run(self, run_id: str, *, leave: bool = False, unsure: str = "", otherwise: str = "", looked: bool = False) -> None:
        """Continue a parked run, or run a held one anyway. `leave`: leave out elements of lists whose failures are gathered.

        `unsure`: of what may have gone out, whether it "went", as somebody has seen, or is to be done "again".
        `otherwise`: what is there with other values stays so ("keep"), or is set or sent again ("renew").
        `looked`: at the first row that the run waits with, which is written then, as are those of other runs that wait for that.
        """
        said = {"leave": "true" if leave else "", "unsure": unsure, "otherwise": otherwise, "looked": "true" if looked else ""}
        params = {name: value for name, value in said.items() if value}
        self._ask("POST", f"/api/runs/{run_id}/continue", params=params)

    def there_now(self, run_id: str) -> list[dict[str, Any]]:
        """What is there now of the rows of a run that may have been written: of each what was `sent`, and what was `found` where it was to go (None with the reason `why`)."""
        return list(self._ask("GET", f"/api/runs/{run_id}/there-now")["items"])

    def cancel(self, run_id: str, comment: str = "") -> None:
        """End a run where it stands; what it has written stays."""
        self._ask("POST", f"/api/runs/{run_id}/cancel", body={"comment": comment})

    def continue_parked(self) -> int:
        """Continue every parked run; how many there were."""
        return int(self._ask("POST", "/api/runs/continue")["continued"])

    def trial(self, record_type: str, *, model: str = "", context: str = "", most: int = 0, every: float = 1.0) -> Iterator[dict[str, Any]]:
        """Read the approved records of a type again and set each against what a person approved.

        Yields the trial as it comes along, last when it has ended; stop the loop and call `stop_trial` to end it sooner.
        """
        body = {"record_type": record_type, "model": model, "context": context, "most": most}
        trial_id = str(self._ask("POST", "/api/trials", body=body)["id"])
        while True:
            found = self.get_trial(trial_id)
            yield found
            if found["state"] != "running":
                return
            time.sleep(every)

    def get_trial(self, trial_id: str) -> dict[str, Any]:
        """What a trial came to, as far as it is."""
        return dict(self._ask("GET", f"/api/trials/{trial_id}"))

    def trials(self) -> list[dict[str, Any]]:
        """Trials, newest first."""
        return list(self._ask("GET", "/api/trials")["items"])

    def stop_trial(self, trial_id: str) -> None:
        """Stop a trial after the document it is at."""
        self._ask("POST", f"/api/trials/{trial_id}/stop")

    def continue_trial(self, trial_id: str) -> None:
        """Go on with a trial that was stopped or failed; nothing is paid twice."""
        self._ask("POST", f"/api/trials/{trial_id}/continue")

    def fields_by_week(self, *, flow: str = "", record_type: str = "", weeks: int = 12) -> list[dict[str, Any]]:
        """How complete and how sure each field was as it was read, by week."""
        return list(self._ask("GET", "/api/fields", params={"flow": flow, "record_type": record_type, "weeks": str(weeks)})["items"])

    def put_record_type(self, name: str, text: str) -> int:
        """Keep a record type (JSON Schema); its version."""
        return int(self._ask("PUT", f"/api/record-types/{name}", content=text.encode())["version"])

    def record_types(self) -> list[dict[str, Any]]:
        """Every record type in its newest version."""
        return list(self._ask("GET", "/api/record-types")["items"])

    def record_type_versions(self, name: str) -> list[dict[str, Any]]:
        """All versions of a record type, newest first."""
        return list(self._ask("GET", f"/api/record-types/{name}/versions")["items"])

    def touched_flows(self, name: str, text: str = "") -> list[dict[str, Any]]:
        """The flows that a record type is used in; with a changed type, what would be wrong with them."""
        return list(self._ask("POST", f"/api/record-types/{name}/touched", content=text.encode())["flows"])

    def start_record_type(
        self, *, row: Mapping[str, Any] | None = None, heads: Sequence[str] | None = None, document: str | None = None, title: str = "record"
    ) -> str:
        """A record type to begin with (JSON Schema), from an example row, heads of a sheet, or the hash of a file that came in."""
        body: dict[str, Any] = {"title": title, "row": row, "heads": list(heads) if heads is not None else None, "document": document}
        return str(self._ask("POST", "/api/record-types-to-start", body={name: value for name, value in body.items() if value is not None})["text"])

    def calls(self, run_id: str) -> list[dict[str, Any]]:
        """The calls of models in a run, oldest first."""
        return list(self._ask("GET", f"/api/runs/{run_id}/calls")["items"])

    def call(self, call_id: str) -> dict[str, Any]:
        """A call with what was asked and answered."""
        return dict(self._ask("GET", f"/api/calls/{call_id}"))

    def estimate(self, flow: str, file: str | Path | bytes) -> dict[str, Any]:
        """What a file would cost in a flow; nothing is kept and no model is asked."""
        data = file if isinstance(file, bytes) else Path(file).read_bytes()
        headers = {"Content-Type": "application/octet-stream"}
        return dict(self._ask("POST", f"/api/flows/{flow}/estimate", content=data, headers=headers))

    def spend(self, days: int = 28) -> dict[str, Any]:
        """What models cost by day and flow, and what is allowed."""
        return dict(self._ask("GET", "/api/spend", params={"days": days}))

    def models(self) -> list[dict[str, Any]]:
        """Every model with its prices and limits."""
        return list(self._ask("GET", "/api/models")["items"])

    def lists(self) -> list[dict[str, Any]]:
        """Every list of known values: its name, how many values, its columns."""
        return list(self._ask("GET", "/api/lists")["items"])

    def list_of(self, name: str) -> dict[str, Any]:
        """A list of known values with its `text` (CSV)."""
        return dict(self._ask("GET", f"/api/lists/{name}"))

    def put_list(self, name: str, text: str) -> dict[str, Any]:
        """Keep a list of known values (CSV) in the place of the one before."""
        return dict(self._ask("PUT", f"/api/lists/{name}", body={"text": text}))

    def due(self) -> list[dict[str, Any]]:
        """What would be removed now, by the settings of how long things are kept: what, after how many days, how many, bytes."""
        return list(self._ask("GET", "/api/keeping")["items"])

    def remove_due(self) -> list[dict[str, Any]]:
        """Remove it now; what it was."""
        return list(self._ask("POST", "/api/keeping")["items"])

    def forget(self, *, item: str = "", value: str = "", count: int | None = None) -> dict[str, Any]:
        """Forget everything about an item, or all items that hold a value, for good.

        Without `count` the items are only told; with their count it is done, and the proof is told.
        """
        return dict(self._ask("POST", "/api/forget", body={"item": item, "value": value, "count": count}))

    def forgotten(self) -> list[dict[str, Any]]:
        """Proofs of what was removed on request, newest first."""
        return list(self._ask("GET", "/api/forgotten")["items"])

    def today(self) -> dict[str, Any]:
        """What needs a person, what came in today, what it cost."""
        return dict(self._ask("GET", "/api/today"))

    def changes(self, after: int = -1) -> dict[str, Any]:
        """What changed after a number; -1 asks where the feed stands."""
        return dict(self._ask("GET", "/api/changes", params={"after": after}))

    def ready(self) -> bool:
        """Whether the service can take items in."""
        try:
            return self._http.get("/ready").status_code == 200
        except httpx.HTTPError:
            return False

    def _pages(self, path: str, params: dict[str, str]) -> Iterator[dict[str, Any]]:
        given: dict[str, Any] = {name: value for name, value in params.items() if value}
        while True:
            page = self._ask("GET", path, params={**given, "limit": 100})
            yield from page["items"]
            if not page["next"]:
                return
            given["cursor"] = page["next"]

    def _ask(
        self,
        method: str,
        path: str,
        *,
        body: Any = None,
        content: bytes | None = None,
        headers: dict[str, str] | None = None,
        params: dict[str, Any] | None = None,
    ) -> Any:
        if body is not None:
            content, headers = _encoded(body), {"Content-Type": "application/json"}
        try:
            response = self._http.request(method, path, content=content, headers=headers, params=params)
        except httpx.HTTPError as error:
            reason = str(error) or type(error).__name__
            raise Unreachable(f"The service at {self.url} does not answer: {reason}. Is it running, and is the address right?") from error
        data = _decoded(response)
        if response.status_code < 400:
            return data
        refusal = {401: NotAllowed, 403: NotAllowed, 404: NotFound, 409: Refused, 413: Refused, 422: Refused}.get(response.status_code, ServiceError)
        raise refusal(response.status_code, data if isinstance(data, dict) else {})


def _encoded(body: Any) -> bytes:
    """JSON in which a `Decimal` is a number with all its digits."""
    numbers: list[str] = []

    def plain(value: Any) -> Any:
        if isinstance(value, Decimal):
            numbers.append(f"{value:f}")
            return f"\x00{len(numbers) - 1}\x00"
        if isinstance(value, Mapping):
            return {name: plain(part) for name, part in value.items()}
        return [plain(part) for part in value] if isinstance(value, list | tuple) else value

    text = json.dumps(plain(body), ensure_ascii=True)
    for number, digits in enumerate(numbers):
        text = text.replace(f'"\\u0000{number}\\u0000"', digits)
    return text.encode()


def _decoded(response: httpx.Response) -> Any:
    if not response.content:
        return {}
    kind = response.headers.get("content-type", "")
    if kind.startswith("application/xml"):
        return response.text
    if kind.startswith("application/zip"):
        return response.content
    try:
        return json.loads(response.content, parse_float=Decimal)
    except ValueError:
        return {"detail": response.text[:300]}
