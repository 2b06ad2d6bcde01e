"""Recordings in four languages, spoken by a synthesiser of the system and heard by a speech model here. By hand, not in CI.

    python -m bench.voice MODEL_FOLDER [--out DIR] [--minutes 60]

Needs the extra `speech`, a model folder and espeak-ng. Twelve notes to a botanic garden are spoken and heard. Told by language: how many
of their words, figures and known names were heard right, names also after they were mended by sound, and how much of what was heard
wrong is among the words that were heard unsurely. With --minutes a recording of that length is heard, killed twice on the way.
"""

from __future__ import annotations

import argparse
import collections
import difflib
import hashlib
import json
import re
import subprocess
import threading
import time
import wave
from pathlib import Path
from typing import Any

from metrikon.core.extraction.indexing.index import squeezed
from metrikon.core.records.lists import KnownList
from metrikon.ports.transcription import HeardSoFar, TranscriptionDown
from metrikon.transcription.local import LocalTranscriber

UNSURE = 0.6  # how surely a word must be heard for nobody to look at it
NOTES: dict[str, list[tuple[str, str, str]]] = {  # language: what is said, how it is written, the known name in it
    "en-gb": [
        ("This is Fernhill Nurseries. Please send forty two royal ferns to the garden by Friday.", "42", "Fernhill Nurseries"),
        (
            "Invoice number four four one seven from Quillfeather Ferns. The total is three hundred and twelve pounds.",
            "4417 312",
            "Quillfeather Ferns",
        ),
        ("This is Harrowdene School. We would like a tour for twenty three children on the twelfth of May.", "23 12", "Harrowdene School"),
    ],
    "de": [
        ("Guten Tag, hier ist die Gärtnerei Moosbach. Wir liefern am Dienstag fünfunddreißig Farne.", "35", "Gärtnerei Moosbach"),
        ("Rechnung der Firma Lindwurm. Der Betrag ist eintausendzweihundertfünfzig Euro.", "1250", "Firma Lindwurm"),
        ("Hier spricht Frau Silbernagel. Ich möchte für siebenundzwanzig Personen eine Führung bestellen.", "27", "Frau Silbernagel"),
    ],
    "fr": [
        ("Bonjour, ici la Jardinerie des Iris. Nous livrons quarante-cinq rosiers jeudi matin.", "45", "Jardinerie des Iris"),
        ("Facture de la maison Kervran. Le montant est de mille deux cents euros.", "1200", "Maison Kervran"),
        ("Ici Apolline Verneuil. Je voudrais une visite pour vingt-huit personnes.", "28", "Apolline Verneuil"),
    ],
    "es": [
        ("Buenos días, habla el vivero Las Jaras. Mandamos sesenta macetas el lunes.", "60", "Vivero Las Jaras"),
        ("Factura de Envases Turia. El importe es de mil quinientos euros.", "1500", "Envases Turia"),
        ("Hola, soy Nicanor Baztán. Quiero una visita para treinta y cinco personas.", "35", "Nicanor Baztán"),
    ],
}
KNOWN = KnownList("names", [[name] for notes in NOTES.values() for _, _, name in notes])


def spoken(text: str, voice: str, place: Path) -> Path:
    """A recording of a text."""
    subprocess.run(["espeak-ng", "-v", voice, "-s", "140", "-w", str(place), text], check=True, capture_output=True)
    return place


def heard(transcriber: LocalTranscriber, place: Path) -> list[tuple[str, float]]:
    """The words that are heard in a recording, with how surely."""
    answer = json.loads(transcriber.transcribe(place.read_bytes(), "wav"))
    return [(each["word"], float(each["probability"])) for segment in answer["segments"] for each in segment["words"]]


def tally(said: str, figures: str, name: str, words: list[tuple[str, float]]) -> collections.Counter[str]:
    """What was heard right of a note. Words in figures are counted as figures alone."""
    found: collections.Counter[str] = collections.Counter()
    texts = [squeezed(word) for word, _ in words]
    wanted = [squeezed(word) for word in said.split()]
    same = {block.b + n for block in difflib.SequenceMatcher(None, wanted, texts).get_matching_blocks() for n in range(block.size)}
    whole = " ".join(word for word, _ in words)
    for figure in figures.split():
        found["figures"] += 1
        found["figures right"] += re.sub(r"[.,\s]", "", whole).count(figure) > 0
    found["names"] += 1
    found["names right"] += squeezed(name) in squeezed(whole)
    found["names mended"] += squeezed(name) in squeezed(whole) or name in _by_sound(texts)
    for number, (word, sure) in enumerate(words):
        wrong = number not in same and not any(c.isdigit() for c in word)
        found["words"] += 1
        found["wrong"] += wrong
        found["wrong and unsure"] += wrong and sure < UNSURE
        found["right and unsure"] += not wrong and sure < UNSURE
    return found


def _by_sound(texts: list[str]) -> set[str]:
    """The known names that two or three words after each other sound like."""
    runs = (" ".join(texts[at : at + count]) for count in (2, 3) for at in range(len(texts) - count + 1))
    return {meant for run in runs if (meant := KNOWN.sounds_like(run)) is not None}


def long(folder: Path, out: Path, minutes: int) -> dict[str, Any]:
    """A long recording heard to its end, with two kills of the process on the way."""
    place = _joined(sorted(out.glob("en-gb-*.wav")), out / "long.wav", minutes)
    begun = time.perf_counter()
    kills = 0
    pieces: list[HeardSoFar] = []
    ears = LocalTranscriber(folder, kept=out.joinpath, told=pieces.append)
    while True:
        killer = threading.Thread(target=_kill_after, args=(len(pieces) + 2, pieces), daemon=True) if kills < 2 else None
        if killer:
            killer.start()
        try:
            answer = json.loads(ears.transcribe(place.read_bytes(), "wav"))
            break
        except TranscriptionDown:
            kills += 1
    ears.done(hashlib.sha256(place.read_bytes()).hexdigest())
    told = [far.pieces for far in pieces]
    return {
        "minutes": minutes,
        "seconds": round(time.perf_counter() - begun),
        "pieces": pieces[-1].in_all,
        "heard twice": len(told) - len(set(told)),
        "kills": kills,
        "words": sum(len(each["words"]) for each in answer["segments"]),
    }


def _kill_after(count: int, pieces: list[Any]) -> None:
    while len(pieces) < count:
        time.sleep(0.2)
    subprocess.run(["pkill", "-9", "-f", "metrikon.transcription.hearing"], check=False)


def _joined(parts: list[Path], place: Path, minutes: int) -> Path:
    with wave.open(str(place), "wb") as whole:
        frames, rate = 0, 1
        while frames < minutes * 60 * rate:
            for part in parts:
                with wave.open(str(part), "rb") as one:
                    if not frames:
                        whole.setparams(one.getparams())
                    rate = one.getframerate()
                    whole.writeframes(one.readframes(one.getnframes()))
                    frames += one.getnframes()
    return place


def main() -> None:
    """Speak, hear, tell."""
    parser = argparse.ArgumentParser(prog="python -m bench.voice")
    parser.add_argument("folder", type=Path)
    parser.add_argument("--out", type=Path, default=Path("/tmp/voices"))
    parser.add_argument("--minutes", type=int, default=0)
    given = parser.parse_args()
    given.out.mkdir(parents=True, exist_ok=True)
    ears = LocalTranscriber(given.folder)
    for voice, notes in NOTES.items():
        found: collections.Counter[str] = collections.Counter()
        for number, (said, figures, name) in enumerate(notes):
            found += tally(said, figures, name, heard(ears, spoken(said, voice, given.out / f"{voice}-{number}.wav")))
        print(voice, json.dumps(found), flush=True)
    if given.minutes:
        print(json.dumps(long(given.folder, given.out, given.minutes)))


if __name__ == "__main__":
    main()
