"""read: make a file readable. The document stays in the file store; the result names it."""

from __future__ import annotations

from metrikon.core.documents.model import Within
from metrikon.ports.deaths import KILLS
from metrikon.ports.reader import Refused
from metrikon.ports.step import Call, Outcome, ReaderDied, StepFailed, WorkFailed, Workshop
from metrikon.ports.transcription import TranscriptionDown, TranscriptionRefused
from metrikon.readers.recording import WANTED


def run(call: Call, workshop: Workshop) -> Outcome:
    """The document of the file named in `file`."""
    sha256 = str(call.parameters["file"])
    try:
        sha256 = _as_one(sha256, call, workshop)
        document = workshop.summary(sha256, call.flow)
        if document.parts:
            workshop.keep_parts(sha256, call.flow)
    except Refused as error:
        if error.code == "encrypted":
            raise StepFailed(f"{call.file_name} cannot be read yet. {error.reason} Then continue.") from error
        if error.code == WANTED:  # nothing is wrong with it: it goes on when it can be heard
            raise StepFailed(f"{call.file_name} cannot be read yet. {error.reason}") from error
        raise StepFailed(f"{call.file_name} cannot be read. {error.reason}", refused=True) from error
    except TranscriptionDown as error:
        raise StepFailed(f"{call.file_name}: {error}", again=True, cause="unreachable") from error
    except TranscriptionRefused as error:
        raise StepFailed(f"{call.file_name}: {error} Correct the settings, then continue.") from error
    except WorkFailed as error:
        raise StepFailed(f"{call.file_name}: {error}", again=True, cause="machine") from error
    except ReaderDied as error:
        if call.attempt >= KILLS:
            raise StepFailed(f"{call.file_name} is refused: {error} It happened {KILLS} times.", refused=True) from error
        raise StepFailed(f"{call.file_name}: {error} It is tried again.", again=True, wait=0.2, cause="machine") from error
    except KeyError as error:
        raise StepFailed(
            f"The file {sha256[:12]} is kept no longer, or never was. Give the read step a file that is, such as ${{item.file}} of an item that came in lately."
        ) from error
    result = {"document": sha256, "format": document.format, "pages": len(document.pages), "warnings": list(document.warnings)}
    every = tuple(range(1, len(document.pages) + 1))
    result["documents"] = [
        {"pages": list(each.pages), "box": list(each.box) if each.box else None, "title": each.title}
        for each in document.documents or (Within(every),)
    ]
    parts = [{"name": part.name, "file": part.sha256, "size": part.size, "role": part.role} for part in document.parts]
    return Outcome({**result, "parts": parts})


def _as_one(sha256: str, call: Call, workshop: Workshop) -> str:
    """The file itself, or the one that it makes with the files that are read along with it."""
    given = call.parameters.get("along") or []
    if not isinstance(given, list) or not all(_hash(each) for each in given):
        raise StepFailed("`along` must be a list of files, such as ${archive.parts}. Correct the flow, then continue.")
    files = [(_name(each, number), _hash(each)) for number, each in enumerate(given, 2)]
    if call.parameters.get("together"):
        parts = [part for part in workshop.summary(sha256, call.flow).parts if part.role == "member"]
        if parts:
            workshop.keep_parts(sha256, call.flow)
            return workshop.together([*((part.name, part.sha256) for part in parts), *files], call.flow)
    return workshop.together([(call.file_name, sha256), *files], call.flow) if files else sha256


def _hash(each: object) -> str:
    return str(each.get("file") or "") if isinstance(each, dict) else each if isinstance(each, str) else ""


def _name(each: object, number: int) -> str:
    return str(each.get("name") or f"file {number}") if isinstance(each, dict) else f"file {number}"
