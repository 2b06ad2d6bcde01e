"""From plain data to a flow. What does not fit its form is told, all of it at once; the rest is read all the same, so that it can be verified too."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any, TypeVar
from zoneinfo import ZoneInfo

from pydantic import ValidationError

from metrikon.core.flows.form import Form, Where, fields
from metrikon.core.flows.kind import Kind, Language
from metrikon.core.flows.model import Common, Flow, Head, Limits, Retry, Said, Step
from metrikon.core.flows.problems import BadFlow, Problem, in_our_words
from metrikon.core.flows.settings import misfit, right_kind, unknown_settings, values_of, with_settings
from metrikon.core.values.near import meant

DEEPEST = 20  # blocks within blocks
MOST_STEPS = 1000
UNREAD = Kind("unread", Form)  # stands for a step that could not be read: its name is known, its result may be anything
F = TypeVar("F", bound=Form)


def flow_from(data: Any, language: Language) -> Flow:
    """The flow in plain data. Raises `BadFlow` naming every place that does not fit."""
    flow, problems = read_flow(data, language)
    if problems or flow is None:
        raise BadFlow(problems)
    return flow


def read_flow(data: Any, language: Language) -> tuple[Flow | None, list[Problem]]:
    """The flow in plain data as far as it can be read, and every place that does not fit its form."""
    reading = _Reading(language)
    return reading.flow(data), reading.problems


class _Reading:
    def __init__(self, language: Language) -> None:
        self.language = language
        self.problems: list[Problem] = []
        self.count = 0

    def flow(self, data: Any) -> Flow | None:
        if not isinstance(data, dict):
            if data is None:
                self._tell(
                    "", (), (), "The file is empty. A flow begins with `metrikon: 1` and `name: …`, then says `intakes`, `destinations` and `steps`."
                )
                return None
            self._tell("", (), (), "A flow is a mapping that starts with `metrikon: 1` and a `name`.")
            return None
        parts = ("intakes", "destinations", "steps")
        head = self._form(Head, {name: value for name, value in data.items() if name not in parts}, "", (), (), known=parts)
        if head is not None:
            try:
                ZoneInfo(head.zone)
            except (ValueError, OSError, KeyError):  # ZoneInfoNotFoundError is a KeyError
                head = head.model_copy(update={"zone": "UTC"})
                self._tell("", ("zone",), ("zone",), f"There is no zone {data['zone']!r}; give one of the IANA database, such as Europe/Vienna.")
        settings = self._settings(head)
        for where, told in unknown_settings({name: data.get(name) for name in ("intakes", "destinations")}, settings):
            self._tell("", where, where, told)
        data = {name: with_settings(value, settings) if name in parts else value for name, value in data.items()}
        intakes = self._listed(data, "intakes")
        said = [self._said(each, self.language.intakes, "intake", ("intakes", number)) for number, each in enumerate(intakes)]
        destinations = data.get("destinations") or {}
        if not isinstance(destinations, dict):
            self._tell("", ("destinations",), ("destinations",), "Give each destination a name, and its parameters under it.")
            destinations = {}
        named = {
            str(name): self._said(each, self.language.destinations, "destination", ("destinations", str(name))) for name, each in destinations.items()
        }
        steps = self.block(self._listed(data, "steps"), ("steps",), 0)
        for below, holder, field, value in list(fields(head, "steps")) if head is not None else ():
            setattr(holder, field, self.block(with_settings(value, settings), below, 1))
        return Flow(
            head or Head.model_construct(metrikon=1, name=str(data.get("name", "")), about="", zone="UTC", settings={}, limits=Limits()),
            tuple(each for each in said if each is not None),
            {name: each or Said("unread", None, ("destinations", name)) for name, each in named.items()},
            tuple(steps),
        )

    def _settings(self, head: Head | None) -> dict[str, Any]:
        """The values of the settings; of one that was told to be wrong a value of the right kind, so that it is told once."""
        every = head.settings if head is not None else {}
        wrong = {name: told for name, each in every.items() if (told := misfit(each))}
        for name, told in wrong.items():
            self._tell("", ("settings", name, "value"), ("settings", name, "value"), told)
        return values_of({name: each if name not in wrong else right_kind(each) for name, each in every.items()})

    def _listed(self, data: Mapping[str, Any], name: str) -> list[Any]:
        found = data.get(name)
        if isinstance(found, list) and found:
            return found
        told = "It is missing; add it." if name not in data else "It is empty; give at least one." if not found else "Give a list."
        self._tell("", (name,), (name,), told)
        return []

    def _said(self, data: Any, kinds: Mapping[str, type[Form]], what: str, where: Where) -> Said | None:
        kind = data.get("kind") if isinstance(data, dict) else None
        if not isinstance(kind, str) or kind not in kinds:
            near = _kind_meant(kind, kinds) if isinstance(kind, str) else "."
            told = f"There is no kind of {what} {kind!r}{near}" if kind is not None else f"Say of which `kind` the {what} is."
            self._tell("", where, (*where, "kind"), f"{told} Known: {', '.join(kinds)}.")
            return None
        form = self._form(kinds[kind], {name: value for name, value in data.items() if name != "kind"}, "", where, where, known=("kind",))
        return Said(kind, form, where) if form is not None else None

    def block(self, data: Any, where: Where, depth: int) -> list[Step]:
        """The steps of a block."""
        if not isinstance(data, list):
            return []
        if depth > DEEPEST:
            self._tell("", where, where, f"Steps stand within steps more than {DEEPEST} deep. Put some of them into a flow of their own.")
            return []
        found = []
        for number, each in enumerate(data):
            self.count += 1
            if self.count > MOST_STEPS:
                if self.count == MOST_STEPS + 1:
                    self._tell("", where, where, f"The flow has more than {MOST_STEPS} steps. Put some of them into a flow of their own.")
                break
            step = self._step(each, (*where, number), depth)
            if step is not None:
                found.append(step)
        return found

    def _step(self, data: Any, where: Where, depth: int) -> Step | None:
        if not isinstance(data, dict):
            self._tell("", where, where, "A step is a mapping with a `name` and one kind.")
            return None
        name = data["name"] if isinstance(data.get("name"), str) else ""
        kinds = self.language.steps
        given = [each for each in data if each in kinds]
        others = [each for each in data if each not in kinds]
        common = self._form(Common, {each: data[each] for each in others}, name, (), where, known=() if given else tuple(kinds))
        if len(given) != 1 and not self._misspelled(others):
            said = f"has {' and '.join(given)}" if given else "has no kind"
            self._tell(name, (), where, f"The step {said}; give it exactly one of {', '.join(kinds)}.")
        kind = kinds[given[0]] if len(given) == 1 else UNREAD
        parameters = self._form(kind.parameters, data[given[0]] or {}, name, (kind.name,), (*where, kind.name)) if len(given) == 1 else Form()
        if common is None or parameters is None:
            self._inner(data, where, depth)
            return Step(_named(name), UNREAD, Form(), where) if name else None
        for form, root in ((parameters, (kind.name,)), (common, ())):
            for below, holder, field, value in list(fields(form, "steps")):
                setattr(holder, field, self.block(value, (*where, *root, *below), depth + 1))
        return Step(common, kind, parameters, where)

    def _misspelled(self, names: list[Any]) -> bool:
        """Whether a name that is not known was told already, as what the kind was meant to be."""
        return any(str(each) not in Common.model_fields for each in names)

    def _inner(self, data: Any, where: Where, depth: int) -> None:
        """The blocks in a step that could not be read, so that what is wrong in them is told too."""
        for at, each in data.items() if isinstance(data, dict) else enumerate(data) if isinstance(data, list) else ():
            if at == "steps" or (at == "otherwise" and isinstance(each, list)):
                self.block(each, (*where, at), depth + 1)
            elif isinstance(each, dict | list):
                self._inner(each, (*where, at), depth)

    def _form(self, form: type[F], data: Any, step: str, place: Where, where: Where, known: tuple[str, ...] = ()) -> F | None:
        """A form filled; None, and what is wrong told, when it does not fit."""
        if isinstance(data, dict) and not all(isinstance(name, str) for name in data):
            data = {str(name): value for name, value in data.items()}
        try:
            return form.model_validate(data)
        except ValidationError as error:
            for each in error.errors():
                loc = each["loc"]
                names = [*known, *_names_at(form, loc if each["type"] == "model_type" else loc[:-1])]
                message = in_our_words(each, names, _about(form, loc))
                self._tell(step, (*place, *loc), (*where, *loc), message)
            return None

    def _tell(self, step: str, place: Where, where: Where, message: str) -> None:
        self.problems.append(Problem(step, "/".join(str(each) for each in place), message, where))


def _kind_meant(given: str, kinds: Mapping[str, type[Form]]) -> str:
    """The end of a sentence about a kind that is not known."""
    found = next((kind for kind, form in kinds.items() if given.casefold() in form.called), None)
    return f". Is {found!r} meant?" if found else meant(given, kinds)


def _named(name: str) -> Common:
    return Common.model_construct(name=name, about=None, when=None, null_means=None, retry=Retry(), limit=None, on_failure=None)


def _names_at(form: Any, loc: tuple[int | str, ...]) -> Iterator[str]:
    """The names of parameters of the form at a place within a form."""
    for part in loc:
        inner = next((each for name, each in getattr(form, "model_fields", {}).items() if part in (name, each.alias)), None)
        form = next(_form_types(inner.annotation), None) if inner is not None else form
    yield from (field.alias or name for name, field in getattr(form, "model_fields", {}).items())


def _about(form: Any, loc: tuple[int | str, ...]) -> str:
    """What the parameter at a place within a form is for."""
    for part in loc:
        inner = next((each for name, each in getattr(form, "model_fields", {}).items() if part in (name, each.alias)), None)
        if inner is None:
            return ""
        if part == loc[-1]:
            return str(inner.description or "")
        form = next(_form_types(inner.annotation), None)
    return ""


def _form_types(annotation: Any) -> Iterator[type[Form]]:
    if isinstance(annotation, type) and issubclass(annotation, Form):
        yield annotation
    for each in getattr(annotation, "__args__", ()):
        yield from _form_types(each)
