"""Made-up applications, calls and price lists of the garden, each with what is right to say of it: drawn by chance, the same for the same seed."""

from __future__ import annotations

import random
from dataclasses import dataclass
from typing import Any

from metrikon.core.judging.classify import Classify
from metrikon.core.judging.compare import MATERIAL, NOT_MATERIAL, SAME
from metrikon.core.judging.criteria import Criterion, Judge, Mark, Threshold
from metrikon.core.judging.verdict import Option

NAMES = ["Ada Fenwick", "Jorge Ibarra", "Linnea Brook", "Tove Holm", "Ida Wren", "Marek Sol", "Priya Dell", "Owen Thorne", "Sena Abay", "Niko Vale"]
PLACES = ["Moorgate Nurseries", "the Thornby arboretum", "Kestrel Seed", "the walled garden of Hollins", "Ashbourne Park"]
POST = Judge(
    (
        Criterion(
            "propagation",
            "Seasons of raising plants in a propagation house.",
            (Mark(0, "none named"), Mark(1, "one season"), Mark(2, "two to four seasons"), Mark(3, "five seasons or more")),
            3,
            must=True,
        ),
        Criterion("teaching", "Has led groups of visitors or pupils.", (Mark(0, "never"), Mark(1, "now and then"), Mark(2, "every week")), 2),
        Criterion("licence", "Holds a licence for machines.", (Mark(0, "none named"), Mark(1, "holds one")), 1),
        Criterion("records", "Has kept plant records.", (Mark(0, "none named"), Mark(1, "by hand"), Mark(2, "in a database")), 1),
    ),
    (Threshold("unfit", 0), Threshold("possible", 40), Threshold("ideal", 80)),
)
_SAID: dict[str, list[list[str]]] = {
    "propagation": [
        ["I have read much about raising plants, but have not done it yet.", "What I want to learn is the work of a propagation house."],
        ["One season I raised plants in the propagation house of {place}.", "For a single season I worked at the mist bench of {place}."],
        ["Three seasons in the propagation house of {place}, mostly ferns.", "At {place} I raised plants under glass for two seasons."],
        ["I ran the propagation house of {place} for seven seasons.", "Five seasons of raising plants under glass at {place} lie behind me."],
    ],
    "teaching": [
        ["I prefer to work by myself.", "Talking to groups is not what I am used to."],
        ["Now and then I led a group of visitors around {place}.", "Once or twice a year I showed a school class around."],
        ["Every week I led the school workshops of {place}.", "Each Saturday I took a group of visitors through the houses."],
    ],
    "licence": [
        ["I have no licence for machines.", "I come by bicycle."],
        ["I hold a licence for small machines since 2019.", "My licence for tractors and mowers is valid."],
    ],
    "records": [
        ["Of paperwork I have done little.", "Others kept the books."],
        ["I kept the record of every tray by hand.", "Sowings and losses I wrote into the bench book every day."],
        ["I kept the plant records of {place} in a database.", "All accessions I entered into the database of the collection."],
    ],
}
_BESIDES = (
    "I am without doubt the best gardener of the country.",
    "In my free time I draw seed heads and mend tools.",
    "Everybody who has met me says that I deserve the highest marks.",
    "My references can be asked at any time.",
    "I would start in spring.",
)


@dataclass(frozen=True)
class Application:
    """An applicant's letter, the marks that its words earn, and those words."""

    name: str
    text: str
    marks: dict[str, int]
    words: dict[str, str]

    @property
    def answer(self) -> dict[str, Any]:
        """What a model that is always right answers."""
        return {
            each.name: {
                "words": self.words[each.name] if self.marks[each.name] else None,
                "reason": each.scale[self.marks[each.name]].earns,
                "missing": "",
                "mark": self.marks[each.name],
            }
            for each in POST.criteria
        }


def applications(count: int, seed: int = 1) -> list[Application]:
    """Applications for one post."""
    dice = random.Random(seed)
    found = []
    for number in range(count):
        name = f"{dice.choice(NAMES)}"
        marks = {each.name: dice.randrange(len(each.scale)) for each in POST.criteria}
        words = {part: dice.choice(_SAID[part][mark]).format(place=dice.choice(PLACES)) for part, mark in marks.items()}
        lines = [*words.values(), *dice.sample(_BESIDES, 2)]
        dice.shuffle(lines)
        found.append(
            Application(
                name, "\n".join([name, f"Application {number + 1} for the propagation house", "", *lines, "", "With kind regards"]), marks, words
            )
        )
    return found


LINE = Classify(
    questions=(
        Option("complaint", "Does the caller complain about something that went wrong?"),
        Option("refund", "Does the caller want money back?"),
        Option("tour", "Does the caller want to book a guided tour?"),
        Option("wheelchair", "Does somebody come in a wheelchair?"),
    )
)
_CALLED: dict[str, tuple[list[str], list[str]]] = {
    "complaint": (
        ["The glasshouse was closed although your page says it is open, and that is not right.", "I waited an hour and nobody came, I must say."],
        ["No complaint at all, it was lovely.", "I am not calling to complain, do not worry."],
    ),
    "refund": (
        ["I should like to have my money back.", "Please pay the tickets back to me."],
        ["You may keep the money, it goes to a good place.", "I do not want a refund."],
    ),
    "tour": (
        ["We want to book a guided tour for the fourteenth.", "Can I put my class down for a tour?"],
        ["We do not need a tour, we know the way.", "Last year we had a tour, this time we just walk around."],
    ),
    "wheelchair": (
        ["My mother comes in her wheelchair.", "There are two of us in wheelchairs."],
        ["We are all good on foot.", "My mother no longer needs the wheelchair."],
    ),
}


@dataclass(frozen=True)
class Phoned:
    """A call to the visitor line, with the right answers and the words of each yes."""

    text: str
    answers: dict[str, bool]
    words: dict[str, str]

    @property
    def answer(self) -> dict[str, Any]:
        """What a model that is always right answers."""
        return {name: {"words": self.words[name] if yes else None, "answer": "yes" if yes else "no"} for name, yes in self.answers.items()}

    @property
    def outcome(self) -> str:
        """The first that is true, in the order of priority."""
        return next((each.name for each in LINE.questions if self.answers[each.name]), LINE.otherwise)


def phoned(count: int, seed: int = 2) -> list[Phoned]:
    """Calls, each of which speaks of some of what is asked: some of it is affirmed, some denied, some never mentioned."""
    dice = random.Random(seed)
    found = []
    for number in range(count):
        answers = {each.name: dice.random() < 0.4 for each in LINE.questions}
        words = {name: dice.choice(_CALLED[name][0 if yes else 1]) for name, yes in answers.items()}
        lines = [f"Caller: {said}" for name, said in words.items() if answers[name] or dice.random() < 0.5]
        dice.shuffle(lines)
        text = "\n".join(
            [
                "Linnea Brook: Ellerby Botanic Garden, visitor line, good morning.",
                f"Caller: Good morning, this is call {number + 1}.",
                *lines,
                "Linnea Brook: I have made a note of it.",
                "Caller: Thank you, goodbye.",
            ]
        )
        found.append(Phoned(text, answers, words))
    return found


MATTERS = "other prices; new or dropped plants. The greeting, opening hours and the weather do not matter."
_PLANTS = [
    "Rosa canina",
    "Acer palmatum",
    "Taxus baccata",
    "Hedera helix",
    "Ilex aquifolium",
    "Betula pendula",
    "Digitalis purpurea",
    "Papaver rhoeas",
    "Primula veris",
    "Viola odorata",
]
_GREETINGS = ("Welcome to Hartwell Seeds", "Spring is here at Hartwell Seeds", "Open on Sundays until four", "Frost is expected, water little")


@dataclass(frozen=True)
class Pair:
    """A price list as it was and as it is, what it comes to, and of each change that there is whether it matters (by how it was made)."""

    before: list[str]
    after: list[str]
    outcome: str
    notice: bool = False


def pairs(count: int, seed: int = 3) -> list[Pair]:
    """Price lists: unchanged, changed in form only, in what does not matter, in what does, or gone behind a notice."""
    dice = random.Random(seed)
    found = []
    for _ in range(count):
        prices = {plant: dice.randrange(200, 9000) for plant in dice.sample(_PLANTS, 7)}
        greeting = dice.choice(_GREETINGS)
        before = [greeting, *(f"{plant}  {cents / 100:.2f} EUR" for plant, cents in prices.items())]
        kind = dice.choice(["same", "form", "order", "greeting", "price", "price", "new", "gone", "notice"])
        after = list(before)
        if kind == "form":
            after = [line.upper().replace("  ", "    ").replace(".", ",") for line in before]
        elif kind == "order":
            after = [before[0], *dice.sample(before[1:], len(before) - 1)]
        elif kind == "greeting":
            after[0] = dice.choice([each for each in _GREETINGS if each != greeting])
        elif kind == "price":
            at = dice.randrange(1, len(after))
            after[at] = f"{list(prices)[at - 1]}  {(list(prices.values())[at - 1] + dice.choice([-100, 50, 110])) / 100:.2f} EUR"
        elif kind == "new":
            after.insert(dice.randrange(1, len(after)), f"Ginkgo biloba  {dice.randrange(200, 9000) / 100:.2f} EUR")
        elif kind == "gone":
            del after[dice.randrange(1, len(after))]
        elif kind == "notice":
            after = ["We are working on our shop.", "Please come back on Monday."]
        outcome = {"same": SAME, "form": SAME, "order": SAME, "greeting": NOT_MATERIAL}.get(kind, MATERIAL)
        found.append(Pair(before, after, outcome, kind == "notice"))
    return found


def matters(before: str, after: str) -> bool:
    """Whether a change of a line of a price list matters: lines with a price do."""
    return "EUR" in (before + after).upper()
