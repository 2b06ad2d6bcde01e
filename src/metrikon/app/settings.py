"""Every setting in one table: name, default, help. Read once at start, from the environment and options."""

from __future__ import annotations

import dataclasses
import os
from collections.abc import Mapping
from dataclasses import dataclass, field
from decimal import Decimal, InvalidOperation
from pathlib import Path
from typing import Any

from metrikon.core.values.near import closest

PREFIX = "METRIKON_"


class BadSetting(ValueError):
    """A setting that cannot be used; the message names it."""


def _setting(default: Any, text: str, *, place: bool = False) -> Any:
    """`place`: it names a file or folder, which is the service's own: no flow touches it."""
    return field(default=default, metadata={"help": text, "place": place})


@dataclass(frozen=True)
class Settings:
    """What can be set. In the environment each is METRIKON_ and its name in capitals."""

    home: Path = _setting(Path("metrikon-data"), "Folder of the database, the files and relative paths of flows.")
    host: str = _setting("127.0.0.1", "Address the service listens on.")
    port: int = _setting(8700, "Port the service listens on.")
    address: str = _setting("", "Address under which people reach the service, for links; empty: that under which it was asked.")
    tls_certificate: str = _setting(
        "", "File of a certificate (PEM, with those that lead to it); with its key people reach the service over https, too.", place=True
    )
    tls_key: str = _setting("", "File of its key (PEM), which nobody else should read.", place=True)
    tls_port: int = _setting(8743, "Port of https, where a certificate is set.")
    health_port: int = _setting(0, "Port on which only /health and /ready are answered, apart from all else; 0: none of its own.")
    trusted_proxy: str = _setting("", "Address of a proxy that is believed who asks and whether over TLS (X-Forwarded-For, -Proto, -Host).")
    threads: int = _setting(8, "Requests answered at once.")
    workers: int = _setting(40, "Runs worked on at once.")
    readers: int = _setting(2, "Processes that read files.")
    model_url: str = _setting("", "Base URL of a chat-completions server; empty: the pattern reader.")
    model_name: str = _setting("", "Name of the model at that server.")
    model_key: str = _setting("", "Key for that server. Set it in the environment, not on the command line.")
    model_label: str = _setting("", "Name under which the model is shown and used in flows; its own name when empty.")
    model_timeout: float = _setting(120.0, "Seconds a model may take to answer.")
    model_context: int = _setting(8192, "Tokens that a request and its answer may have together; longer documents are asked in parts.")
    model_answer_tokens: int = _setting(2500, "Most tokens of an answer.")
    model_calls_at_once: int = _setting(32, "Model calls under way at once.")
    model_rest: float = _setting(30.0, "Seconds for which a model that failed five times in a row is left alone at first; doubled each time.")
    model_chances: bool = _setting(True, "Ask the model's server for the probabilities of tokens, by which doubtful values are told.")
    model_stream: bool = _setting(True, "Read the answers of the model as they are written, and stop one that goes round in a loop.")
    model_pictures: bool = _setting(False, "Show the model the pages of scans and photos as pictures, besides the words that were read from them.")
    model_picture_tokens: int = _setting(1600, "Tokens that a picture counts for at the model, about.")
    models_file: str = _setting("", "File of further models (YAML); models.yaml in the folder of the service when it is there.", place=True)
    spend_run: Decimal = _setting(Decimal(0), "Most that a run may spend on models; 0: no limit.")
    spend_flow: Decimal = _setting(Decimal(0), "Most that a flow may spend on models a day (UTC); 0: no limit.")
    spend_day: Decimal = _setting(Decimal(0), "Most that all flows may spend on models a day (UTC); 0: no limit.")
    calls_a_minute: int = _setting(0, "Most calls of the model a minute; 0: no limit.")
    tokens_a_minute: int = _setting(0, "Most tokens that the model reads and writes a minute; 0: no limit.")
    secret_key: str = _setting(
        "", "Keys of the secrets of connections (32 bytes in base64), the newest first; empty: secret.key in the folder. Set it in the environment."
    )
    fetch_private: bool = _setting(False, "Let flows fetch pages from private addresses, such as those of the own network.")
    trusted_certificates: str = _setting(
        "", "File of certificates (PEM) that flows trust besides the usual ones, such as that of one's own network.", place=True
    )
    fetch_proxy: str = _setting(
        "",
        "Address of a proxy through which flows fetch, such as http://proxy.garden.example:3128, which lets one connect (CONNECT) to addresses; empty: straight.",
    )
    fetches_a_minute: int = _setting(0, "Most pages that are fetched from one host a minute; 0: no limit.")
    fetches_at_once: int = _setting(4, "Most pages that are fetched from one host at once; 0: no limit.")
    keep_files_days: int = _setting(0, "Days after which the file of an item that has settled is kept no longer; 0: kept for good.")
    keep_results_days: int = _setting(0, "Days after which records and results of runs that have settled are kept no longer; 0: kept for good.")
    keep_journals_days: int = _setting(0, "Days after which journals of runs that have settled are kept no longer; 0: kept for good.")
    keep_calls_days: int = _setting(30, "Days after which what models were asked and answered is forgotten; 0: kept for good.")
    free_mb: int = _setting(200, "Megabytes that must be free on the disk of the service's folder for more to be taken in.")
    folders: str = _setting("", "Folders that flows may touch besides that of the service, parted by colons.")
    servers: str = _setting("", "Database servers that flows may use, parted by commas: db.garden.example:5432/ledger, or a host.")
    items_an_hour: int = _setting(
        10_000,
        "Most things that an intake takes in within an hour, besides those that somebody has agreed to; then it waits, and Today says so. 0: no limit.",
    )
    look_first: bool = _setting(
        True, "An intake of a new flow that looks outside takes nothing until somebody has seen what it would take and said yes."
    )
    ask_items: int = _setting(200, "Things that a new or changed intake takes without a yes; more, and it waits for one. 0: it never does.")
    ask_cost: Decimal = _setting(Decimal(1), "What they may cost without a yes.")
    candidates: int = _setting(10, "The latest items of each intake that are kept as they came in, to become samples.")
    price_in: Decimal = _setting(Decimal(0), "Price of a million tokens read by the model.")
    price_out: Decimal = _setting(Decimal(0), "Price of a million tokens written by the model.")
    price_currency: str = _setting("EUR", "Currency of the prices.")
    transcription_url: str = _setting("", "Base URL of a speech server for recordings; empty: recordings are refused.")
    transcription_folder: str = _setting(
        "",
        "Folder of a speech model to transcribe recordings here (needs the extra `speech`); comes before the URL.",
        place=True,
    )
    transcription_model: str = _setting("", "Name of the speech model at that server.")
    transcription_key: str = _setting("", "Key for that server. Set it in the environment.")
    max_bytes: int = _setting(25_000_000, "Largest file that is read.")
    max_pages: int = _setting(300, "Most pages of a document.")
    max_pixels: int = _setting(60_000_000, "Most pixels of a picture.")
    max_expanded: int = _setting(200_000_000, "Most bytes that an archive or office file may expand to.")
    max_ratio: int = _setting(200, "Most times that a file in an archive may expand.")
    max_members: int = _setting(500, "Most files in an archive, and parts of a mail.")
    max_depth: int = _setting(3, "How deep archives and mails within each other are opened.")
    seconds: float = _setting(120.0, "Seconds that reading a file may take.")
    memory_mb: int = _setting(3000, "Megabytes that reading a file may take.")
    session_hours: int = _setting(72, "Hours after which a sign-in is over.")
    stop_seconds: float = _setting(20.0, "Seconds that running steps may take to finish when the service stops.")


def table() -> list[tuple[str, str, str]]:
    """(name, default, help) of every setting."""
    return [(each.name, str(each.default), str(each.metadata["help"])) for each in dataclasses.fields(Settings)]


WORDS = {int: "whole number", float: "number", bool: "yes or no", Decimal: "amount, such as 12.50"}
ALIKE = 0.85  # how alike two names are (difflib) where one is likely a slip for the other: METRIKON_FETCHES_MINUTE, METRIKON_FETCHES_A_MINUTE


def from_environment(environment: Mapping[str, str] | None = None, **given: Any) -> Settings:
    """Settings from METRIKON_ variables; values given here come before them. Raises `BadSetting`."""
    source = os.environ if environment is None else environment
    values: dict[str, Any] = {}
    for each in dataclasses.fields(Settings):
        text = source.get(PREFIX + each.name.upper())
        if given.get(each.name) is not None:
            values[each.name] = given[each.name]
        elif text is not None:
            values[each.name] = _typed(each.name, type(each.default), text)
    return Settings(**values)


def unknown_in(environment: Mapping[str, str]) -> list[str]:
    """Variables that are most likely meant for a setting, and are none: a sentence each."""
    known = [PREFIX + each.name.upper() for each in dataclasses.fields(Settings)]
    found = ((name, closest(name, known, ALIKE)) for name in environment if name.startswith(PREFIX) and name not in known)
    return [f"{name} is no setting, and does nothing. Is {near} meant?" for name, near in found if near]


def _typed(name: str, kind: Any, text: str) -> Any:
    try:
        if kind is bool:
            return {"true": True, "yes": True, "1": True, "false": False, "no": False, "0": False, "": False}[text.strip().lower()]
        return Path(text) if issubclass(kind, Path) else kind(text)
    except (ValueError, KeyError, InvalidOperation) as error:
        raise BadSetting(
            f"{PREFIX}{name.upper()} is {text!r}, which is no {WORDS.get(kind, kind.__name__)}. Its default is used when it is not set."
        ) from error


def own_places(settings: Settings) -> list[Path]:
    """Files and folders that the settings name for the service itself, as they are given and with links followed."""
    named = (getattr(settings, each.name) for each in dataclasses.fields(Settings) if each.metadata["place"])
    given = [Path(each) for each in named if str(each).strip()]
    return list(dict.fromkeys(place for each in given for place in (each.absolute(), each.resolve())))
