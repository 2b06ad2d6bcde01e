"""Calls about flows: kept, copied, carried and tried; decision tables; questions; runs begun again."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any


class FlowCalls:
    """The part of the client that is about flows."""

    def _ask(self, method: str, path: str, *, body: Any = None, content: bytes | None = None, params: dict[str, Any] | None = None) -> Any:
        raise NotImplementedError

    def put_flow(self, name: str, text: str, why: str = "", *, off: bool = False, on: bool = False) -> int:
        """Keep a flow (YAML), with a word why; its version. `off`: one that is new is kept switched off. `on`: its intakes that look outside need no yes."""
        return int(self.keep_flow(name, text, why, off=off, on=on)["version"])

    def keep_flow(self, name: str, text: str, why: str = "", *, off: bool = False, on: bool = False) -> dict[str, Any]:
        """As `put_flow`; its name, its version, and the intakes that wait for a yes (`waits`)."""
        params = {"why": why, "off": "true" if off else "", "on": "true" if on else ""}
        return dict(self._ask("PUT", f"/api/flows/{name}", content=text.encode(), params={each: value for each, value in params.items() if value}))

    def check_flow(self, text: str) -> list[dict[str, Any]]:
        """What is wrong with a flow (YAML): each with step, place, message, line and column; nothing is kept."""
        return list(self.look_over_flow(text)["problems"])

    def look_over_flow(self, text: str) -> dict[str, Any]:
        """What is wrong with a flow (YAML), as `problems`, and what is right and yet worth a word, as `remarks`; nothing is kept."""
        return dict(self._ask("POST", "/api/flows-check", content=text.encode()))

    def mapping(self, text: str) -> list[dict[str, Any]]:
        """For each step of a flow (YAML) that writes rows: the real columns, what is put into them, what seems to fit; nothing is kept."""
        return list(self._ask("POST", "/api/flows-mapping", content=text.encode())["items"])

    def remap(self, text: str, place: str, columns: Mapping[str, Any]) -> str:
        """The text of a flow with other columns at a place that `mapping` told; nothing is kept."""
        return str(self._ask("POST", "/api/flows-remap", body={"text": text, "place": place, "columns": dict(columns)})["text"])

    def flows(self) -> list[dict[str, Any]]:
        """Every flow in its newest version."""
        return list(self._ask("GET", "/api/flows")["items"])

    def switch_flow(self, name: str, running: bool, *, paused: bool = False) -> None:
        """Switch a flow on or off, or pause it: what comes in waits."""
        self.turn_flow(name, running, paused=paused)

    def turn_flow(self, name: str, running: bool, *, paused: bool = False) -> dict[str, Any]:
        """As `switch_flow`; what is to be told of it then (`told`), and the intakes that wait for a yes (`waits`)."""
        return dict(self._ask("POST", f"/api/flows/{name}/switch", body={"running": running, "paused": paused}))

    def foretold(self, name: str) -> list[str]:
        """What is to be told of a flow before it takes anything in, in sentences."""
        return list(self._ask("GET", f"/api/flows/{name}/foretold")["told"])

    def flow(self, name: str) -> dict[str, Any]:
        """One flow: its steps as sentences, its problems, its versions with what changed."""
        return dict(self._ask("GET", f"/api/flows/{name}"))

    def try_flow(
        self,
        flow: str,
        file: str | Path | bytes | None = None,
        *,
        name: str = "",
        item: str = "",
        sample: str = "",
        until: str = "",
        recorded: bool = False,
    ) -> dict[str, Any]:
        """Try a flow on a file, on an item that came in, or on a sample: what each step gives, and what would leave the house. Nothing does.

        `recorded`: no model is asked; answers that were given before are used.
        """
        data = b"" if file is None else file if isinstance(file, bytes) else Path(file).read_bytes()
        shown = name or (Path(file).name if file is not None and not isinstance(file, bytes) else "sample")
        params = {"name": shown, "until": until, "item": item, "sample": sample, "recorded": "true" if recorded else ""}
        return dict(self._ask("POST", f"/api/flows/{flow}/try", content=data, params={key: value for key, value in params.items() if value}))

    def values_of(self, run_id: str) -> list[dict[str, Any]]:
        """What the steps of a run gave, value by value, with path and type."""
        return list(self._ask("GET", f"/api/runs/{run_id}/values")["items"])

    def put_decision_table(self, name: str, text: str) -> dict[str, Any]:
        """Keep a decision table (YAML); its version, and under `open` what it leaves open."""
        return dict(self._ask("PUT", f"/api/decision-tables/{name}", content=text.encode()))

    def decision_tables(self) -> list[dict[str, Any]]:
        """Every decision table in its newest version."""
        return list(self._ask("GET", "/api/decision-tables")["items"])

    def decision_table_as_dmn(self, name: str) -> str:
        """A decision table as DMN 1.5 XML."""
        return str(self._ask("GET", f"/api/decision-tables/{name}/dmn"))

    def decide(self, name: str, given: Mapping[str, Any]) -> dict[str, Any]:
        """What a decision table decides: its outcome, and the rules that held."""
        return dict(self._ask("POST", f"/api/decision-tables/{name}/decide", body={"given": dict(given)}))

    def questions(self, *, state: str = "open") -> list[dict[str, Any]]:
        """Questions of runs: those that wait for an answer, or those in another state."""
        return list(self._ask("GET", "/api/questions", params={"state": state})["items"])

    def answer(self, question_id: str, option: str, comment: str = "") -> dict[str, Any]:
        """Answer a question; its run goes on."""
        return dict(self._ask("POST", f"/api/questions/{question_id}/answer", body={"option": option, "comment": comment}))

    def link_question(self, question_id: str, who: str, days: float = 14) -> str:
        """A signed link by which somebody answers this one question without signing in."""
        return str(self._ask("POST", f"/api/questions/{question_id}/link", body={"who": who, "days": days})["url"])

    def send_event(self, flow: str, key: str, data: Any = None, identity: str = "") -> int:
        """Tell a flow that something has happened; how many runs waited for it."""
        return int(self._ask("POST", f"/api/flows/{flow}/events", body={"key": key, "data": data, "identity": identity})["runs"])

    def run_again(self, item_id: str) -> str:
        """Run an item again, in the place of a parked run; the id of the new run."""
        return str(self._ask("POST", f"/api/items/{item_id}/runs")["run_id"])

    def move_run(self, run_id: str) -> str:
        """Let a parked run go on as a new one on the newest version of its flow, with the results of steps that are the same; its id."""
        return str(self._ask("POST", f"/api/runs/{run_id}/move")["run_id"])

    def put_passwords(self, name: str, passwords: Sequence[str]) -> int:
        """Set the passwords that open encrypted files of a flow; how many it has."""
        return int(self._ask("PUT", f"/api/flows/{name}/passwords", body={"passwords": list(passwords)})["count"])

    def copy_flow(self, flow: str, name: str, settings: Mapping[str, Any] | None = None, why: str = "") -> int:
        """Copy a flow under another name, with other values of its settings; the version of the copy, which is switched off."""
        return int(self.copied_flow(flow, name, settings, why)["version"])

    def copied_flow(self, flow: str, name: str, settings: Mapping[str, Any] | None = None, why: str = "") -> dict[str, Any]:
        """As `copy_flow`; what is to be told of the copy (`told`), and its intakes that have an address of its own (`own`)."""
        body = {"name": name, "settings": dict(settings or {}), "why": why}
        return dict(self._ask("POST", f"/api/flows/{flow}/copy", body=body))

    def export_flow(self, name: str) -> bytes:
        """A flow as one file (ZIP), with all that it needs and its samples."""
        return bytes(self._ask("GET", f"/api/flows/{name}/export"))

    def import_flow(self, file: str | Path | bytes, *, replacing: bool = False, trying: bool = False) -> list[dict[str, Any]]:
        """Take over a flow that was exported; what becomes of each thing in it. `trying`: only tell."""
        data = file if isinstance(file, bytes) else Path(file).read_bytes()
        params = {name: "true" for name, wanted in (("replacing", replacing), ("trying", trying)) if wanted}
        return list(self._ask("POST", "/api/flows-import", content=data, params=params)["items"])

    def samples(self, flow: str) -> dict[str, Any]:
        """The samples of a flow under `items`, and the latest that came in under `candidates`."""
        return dict(self._ask("GET", f"/api/flows/{flow}/samples"))

    def keep_sample(
        self, flow: str, name: str, file: str | Path | None = None, *, item: str = "", intake: str = "", let_go: str = "", why: str = ""
    ) -> dict[str, Any]:
        """Keep a file, an item that came in, or what an `intake` let go (by its identity), as a sample of a flow; then as `samples`."""
        params = {"item": item, "intake": intake, "let_go": let_go, "why": why, "file_name": Path(file).name if file is not None else ""}
        data = Path(file).read_bytes() if file is not None else b""
        sent = {key: value for key, value in params.items() if value}
        return dict(self._ask("PUT", f"/api/flows/{flow}/samples/{name}", content=data, params=sent))

    def remove_sample(self, flow: str, name: str) -> None:
        """Keep a sample no longer."""
        self._ask("DELETE", f"/api/flows/{flow}/samples/{name}")

    def run_again_from(
        self,
        run_id: str,
        step: str,
        values: Mapping[str, Any] | None = None,
        *,
        typed: Mapping[str, str] | None = None,
        send_again: bool = False,
        anew: bool = False,
    ) -> str:
        """Run the item of a run again from a step on, with what came before as it was or as it is corrected; the id of the new run.

        `values`: by path, such as `checked.record.total`; `typed`: the same as a person types them. `send_again`: mails, messages and calls that went out before go out again. `anew`: models are asked
        anew by the steps that are repeated.
        """
        body = {"from_step": step, "values": dict(values or {}), "typed": dict(typed or {}), "send_again": send_again, "anew": anew}
        return str(self._ask("POST", f"/api/runs/{run_id}/again", body=body)["run_id"])

    def run_set_again(
        self,
        flow: str,
        *,
        step: str = "",
        state: str = "",
        since: int = 0,
        until: int = 0,
        search: str = "",
        count: int | None = None,
        send_again: bool = False,
        anew: bool = False,
    ) -> dict[str, Any]:
        """Run a set of items of a flow again. Without `count` it is only told how many there are and what it would take; with it, it is done."""
        body = {"from_step": step, "state": state, "since": since, "until": until, "search": search, "count": count}
        body |= {"send_again": send_again, "anew": anew}
        return dict(self._ask("POST", f"/api/flows/{flow}/again", body=body))

    def repeats(self, flow: str) -> int:
        """How many likely repeats of a flow are held."""
        return int(self._ask("GET", f"/api/flows/{flow}/repeats")["count"])

    def settle_repeats(self, flow: str, do: str, count: int) -> int:
        """Settle all likely repeats of a flow: "take" or "let go"; how many there were. `count`: as many as `repeats` told."""
        return int(self._ask("POST", f"/api/flows/{flow}/repeats", body={"do": do, "count": count})["count"])

    def pause_run(self, run_id: str) -> None:
        """Pause a run; `continue_run` lets it go on."""
        self._ask("POST", f"/api/runs/{run_id}/pause")

    def cancel_runs(self, flow: str, comment: str = "") -> int:
        """End all runs of a flow that have not settled; how many there were."""
        return int(self._ask("POST", f"/api/flows/{flow}/cancel-runs", body={"comment": comment})["continued"])
