"""read: make a file readable. The document stays in the file store; the result names it."""

from __future__ import annotations

from metrikon.ports.reader import Refused
from metrikon.ports.step import KILLS, Call, House, Outcome, ReaderDied, StepFailed, WorkFailed
from metrikon.ports.transcription import TranscriptionDown, TranscriptionRefused


def run(call: Call, house: House) -> Outcome:
    """The document of the file named in `file`."""
    sha256 = str(call.parameters["file"])
    try:
        document = house.summary(sha256, call.flow)
        if document.parts:
            house.keep_parts(sha256, call.flow)
    except Refused as error:
        if error.code == "encrypted":
            raise StepFailed(f"{call.file_name} cannot be read yet. {error.reason} Then continue.") from error
        raise StepFailed(f"{call.file_name} cannot be read. {error.reason}", refused=True) from error
    except TranscriptionDown as error:
        raise StepFailed(f"{call.file_name}: {error}", again=True) from error
    except TranscriptionRefused as error:
        raise StepFailed(f"{call.file_name}: {error} Correct the settings, then continue.") from error
    except WorkFailed as error:
        raise StepFailed(f"{call.file_name}: {error}", again=True) from error
    except ReaderDied as error:
        if call.attempt >= KILLS:
            raise StepFailed(f"{call.file_name} is refused: {error} It happened {KILLS} times.", refused=True) from error
        raise StepFailed(f"{call.file_name}: {error} It is tried again.", again=True, wait=0.2) from error
    except KeyError as error:
        raise StepFailed(f"The file {sha256[:12]} is not kept here. Give the read step a file, such as ${{item.file}}.") from error
    result = {"document": sha256, "format": document.format, "pages": len(document.pages), "warnings": list(document.warnings)}
    parts = [{"name": part.name, "file": part.sha256, "size": part.size, "role": part.role} for part in document.parts]
    return Outcome({**result, "parts": parts})
