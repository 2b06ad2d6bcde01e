"""What is said in other forms than values have is found: numbers, days, times, telephone numbers and addresses in words."""

from __future__ import annotations

from decimal import Decimal

import pytest

from metrikon.core.extraction.grounding.ground import ground
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.records.types import record_type
from metrikon.readers.registry import read

PHONE, MOMENT = {"pattern": r"^\+[1-9][0-9]{6,14}$"}, {"pattern": r"^\d{4}-\d{2}-\d{2}T\d{2}:\d{2}$"}
TIME, MAIL, DATE = {"pattern": "^[0-2][0-9]:[0-5][0-9]$"}, {"format": "email"}, {"format": "date"}
NUMBER: dict[str, str] = {}

SAID = [
    # language, day of the talk, what is said, schema, value, a value that is not said
    ("en", "2026-03-02", "That comes to two forty-nine, tax in.", NUMBER, 249, 259),
    ("en", "2026-03-02", "It is twelve hundred and fifty pounds.", NUMBER, 1250, 1260),
    ("en", "2026-03-02", "We are eight people, twenty-four pots.", NUMBER, 24, 25),
    ("en", "2026-03-02", "My number is oh seven seven double oh, nine hundred, one two three.", PHONE, "+447700900123", "+447700900124"),
    ("en", "2026-03-02", "Ring me on 07700 900 456, after six.", PHONE, "+447700900456", "+447700900457"),
    ("en", "2026-03-02", "It is ada dot fern at hollow dash lane dot example.", MAIL, "ada.fern@hollow-lane.example", "ada.fern@hollow-line.example"),
    ("en", "2026-03-02", "Write to j underscore reed forty-two at marsh dot example.", MAIL, "j_reed42@marsh.example", "j_reed43@marsh.example"),
    ("en", "2026-03-02", "Tuesday the tenth at half past two then.", MOMENT, "2026-03-10T14:30", "2026-03-11T14:30"),
    ("en", "2026-03-02", "Can you come tomorrow at quarter to nine?", MOMENT, "2026-03-03T08:45", "2026-03-04T08:45"),
    ("en", "2026-03-02", "Let us say next Friday, at noon.", DATE, "2026-03-06", "2026-03-07"),
    ("en", "2026-03-02", "We need it in two weeks.", DATE, "2026-03-16", "2026-03-17"),
    ("en", "2026-03-02", "The twenty-first of April is fine.", DATE, "2026-04-21", "2026-05-21"),
    ("en", "2026-03-02", "It takes two and a half days.", NUMBER, 2.5, 2.6),
    ("de", "2026-03-02", "Das dauert anderthalb Stunden.", NUMBER, 1.5, 1.6),
    ("en", "2026-03-02", "By the end of the month, please.", DATE, "2026-03-31", "2026-04-30"),
    ("en", "2026-03-02", "We open in a fortnight.", DATE, "2026-03-16", "2026-03-18"),
    ("en", "2026-03-02", "Half a dozen will do.", NUMBER, 6, 5),
    ("de", "2026-03-02", "Am dritten März, immer um halb sieben am Abend.", MOMENT, "2026-03-03T18:30", "2026-03-03T19:30"),
    ("de", "2026-03-02", "Bitte bis Ende April.", DATE, "2026-04-30", "2026-04-28"),
    ("de", "2026-03-02", "Das macht zweihundertneunundvierzig Euro.", NUMBER, 249, 259),
    ("de", "2026-03-02", "Der Meter kostet sieben Euro fünfzig.", NUMBER, 7.5, 7.6),
    ("de", "2026-03-02", "Am Dienstag, dem zehnten März, um halb drei.", MOMENT, "2026-03-10T14:30", "2026-03-10T15:30"),
    ("de", "2026-03-02", "Dann komme ich übermorgen um Viertel nach acht.", MOMENT, "2026-03-04T08:15", "2026-03-05T08:15"),
    ("de", "2026-03-02", "Null eins fünf eins, null null null, vier eins sieben zwei acht.", PHONE, "+4915100041728", "+4915100041729"),
    ("de", "2026-03-02", "Meine Adresse ist k Punkt moos ät teich minus haus Punkt example.", MAIL, "k.moos@teich-haus.example", "k.moos@teich-hans.example"),
    ("de", "2026-03-02", "Bitte am einundzwanzigsten April liefern.", DATE, "2026-04-21", "2026-04-22"),
    ("de", "2026-03-02", "Wir öffnen um neun Uhr dreißig.", TIME, "09:30", "09:40"),
    ("fr", "2026-03-02", "Cela fait deux cent quarante-neuf euros.", NUMBER, 249, 259),
    ("fr", "2026-03-02", "Quatre-vingt-douze euros cinquante.", NUMBER, 92.5, 92.6),
    ("fr", "2026-03-02", "C'est le zéro six, douze, trente-quatre, cinquante-six, soixante-dix-huit.", PHONE, "+33612345678", "+33612345679"),
    ("fr", "2026-03-02", "Mardi dix mars à quatorze heures trente.", MOMENT, "2026-03-10T14:30", "2026-03-11T14:30"),
    ("fr", "2026-03-02", "Mon adresse : l point mare arobase etang tiret bleu point example.", MAIL, "l.mare@etang-bleu.example", "l.mare@etang-bleus.example"),
    ("fr", "2026-03-02", "Passez demain matin à huit heures.", MOMENT, "2026-03-03T08:00", "2026-03-05T08:00"),
    ("fr", "2026-03-02", "Nous fermons le 1er mai.", DATE, "2026-05-01", "2026-05-11"),
    ("es", "2026-03-02", "Son doscientos cuarenta y nueve euros.", NUMBER, 249, 259),
    ("es", "2026-03-02", "El martes diez de marzo a las cuatro y media.", DATE, "2026-03-10", "2026-03-11"),
    ("es", "2026-03-02", "Seis uno dos, tres cuatro cinco, seis siete ocho.", PHONE, "+34612345678", "+34612345679"),
    ("es", "2026-03-02", "Es p punto rio arroba laguna punto example.", MAIL, "p.rio@laguna.example", "p.rio@lagunas.example"),
    ("it", "2026-03-02", "Fanno duecentoquarantanove euro.", NUMBER, 249, 259),
    ("it", "2026-03-02", "Martedì dieci marzo alle quattordici e trenta.", DATE, "2026-03-10", "2026-03-11"),
    ("it", "2026-03-02", "Scriva a r punto felce chiocciola stagno punto example.", MAIL, "r.felce@stagno.example", "r.felce@stagni.example"),
    ("nl", "2026-03-02", "Dat is tweehonderdnegenenveertig euro.", NUMBER, 249, 259),
    ("nl", "2026-03-02", "Dinsdag de tiende om half drie.", MOMENT, "2026-03-10T14:30", "2026-03-11T14:30"),
    ("nl", "2026-03-02", "Nul zes, een twee, drie vier, vijf zes, zeven acht.", PHONE, "+31612345678", "+31612345679"),
    ("nl", "2026-03-02", "Dat is s punt beek apenstaartje vijver streepje hof punt example.", MAIL, "s.beek@vijver-hof.example", "s.beek@vijver-huf.example"),
    ("pt", "2026-03-02", "São duzentos e quarenta e nove euros.", NUMBER, 249, 259),
    ("da", "2026-03-02", "Det bliver to hundrede og niogfyrre kroner.", NUMBER, 249, 259),
    ("sv", "2026-03-02", "Det blir tvåhundrafyrtionio kronor.", NUMBER, 249, 259),
    ("pl", "2026-03-02", "To będzie dwieście czterdzieści dziewięć złotych.", NUMBER, 249, 259),
]  # fmt: skip
SMALL_TALK = {
    "en": ("Hello, this is the garden, how can I help you?", "Yes, it is about the plants that we have for the fair."),
    "de": ("Guten Tag, hier ist der Garten, was kann ich für Sie tun?", "Ja, es ist wegen der Pflanzen, die wir für das Fest haben."),
    "fr": ("Bonjour, ici le jardin, que puis-je faire pour vous ?", "Oui, c'est pour les plantes que nous avons pour la fête."),
    "es": ("Buenos días, es el jardín, ¿en qué le puedo ayudar?", "Sí, es por las plantas que tenemos para la feria."),
    "it": ("Buongiorno, è il giardino, che cosa posso fare per lei?", "Sì, è per le piante che abbiamo per la festa."),
    "nl": ("Goedemiddag, dit is de tuin, wat kan ik voor u doen?", "Ja, het is voor de planten die wij voor het feest hebben."),
    "pt": ("Bom dia, é do jardim, em que posso ajudar?", "Sim, é por causa das plantas que temos para a festa, não é?"),
    "da": ("Goddag, det er haven, hvad kan jeg hjælpe med?", "Ja, det er om de planter, som vi har til festen."),
    "sv": ("God dag, det är trädgården, vad kan jag hjälpa till med?", "Ja, det är om de växter som vi har till festen."),
    "pl": ("Dzień dobry, tu ogród, w czym mogę pomóc?", "Tak, to jest w sprawie roślin, które mamy na święto."),
}


MEASURES = [
    # language, what is said, name of the field, value, a value that is not said
    ("en", "It has a two year guarantee.", "guarantee_months", 24, 22),
    ("en", "It is guaranteed for a year.", "guarantee_months", 12, 10),
    ("en", "We need six weeks' notice.", "notice_days", 42, 36),
    ("en", "It takes an hour and a half.", "minutes", 90, 95),
    ("en", "Three quarters of an hour, I think.", "minutes", 45, 30),
    ("en", "It is four hours 34 all told.", "minutes", 274, 264),
    ("en", "It weighs five kilos.", "grams", 5000, 500),
    ("de", "Eine Viertelstunde vorher.", "minuten", 15, 25),
    ("de", "Das dauert eineinhalb Stunden.", "minuten", 90, 150),
    ("fr", "Un quart d'heure avant la fermeture.", "derniere_entree_min", 15, 45),
    ("es", "Tiene un año de garantía.", "garantia_meses", 12, 24),
    ("it", "Ci vogliono tre quarti d'ora.", "minuti", 45, 15),
    ("nl", "Het duurt een kwartier.", "minuten", 15, 30),
]  # fmt: skip
NONE = [
    ("en", "Nobody was against.", "votes_against"),
    ("en", "Carried, all in favour.", "votes_against"),
    ("de", "Es gab keine Gegenstimmen.", "gegenstimmen"),
    ("fr", "Personne contre, donc adopté.", "voix_contre"),
    ("nl", "Niemand was tegen.", "tegen"),
]


def _found(language: str, day: str, said: str, schema: dict[str, str], value: object, name: str = "wanted") -> bool:
    hello, yes = SMALL_TALK[language]
    talk = f"WEBVTT\n\nNOTE recorded {day}\n\n00:01.000 --> 00:03.000\n<v Garden>{hello}\n\n00:04.000 --> 00:06.000\n<v Caller>{yes}\n\n"
    document = read((talk + f"00:07.000 --> 00:09.000\n<v Caller>{said}\n").encode())
    kind = record_type({"type": "object", "properties": {name: {"type": "number" if schema is NUMBER else "string", **schema}}})
    return ground(kind, {name: value}, Index(document))[f"/{name}"].found


@pytest.mark.parametrize(("language", "said", "name", "value", "other"), MEASURES, ids=[each[1][:40] for each in MEASURES])
def test_a_measure_is_found_in_the_unit_that_its_field_asks_for(language: str, said: str, name: str, value: int, other: int) -> None:
    assert _found(language, "2026-03-02", said, NUMBER, Decimal(value), name)
    assert not _found(language, "2026-03-02", said, NUMBER, Decimal(other), name)


@pytest.mark.parametrize(("language", "said", "name"), NONE, ids=[each[1] for each in NONE])
def test_nought_is_said_by_words_for_none(language: str, said: str, name: str) -> None:
    assert _found(language, "2026-03-02", said, NUMBER, Decimal(0), name)
    assert not _found(language, "2026-03-02", "Then we go on to the next plant.", NUMBER, Decimal(0), name)


@pytest.mark.parametrize(("language", "day", "said", "schema", "value", "other"), SAID, ids=[each[2][:40] for each in SAID])
def test_a_value_that_is_said_is_found_and_another_one_is_not(
    language: str, day: str, said: str, schema: dict[str, str], value: object, other: object
) -> None:
    exact = [Decimal(str(each)) if schema is NUMBER else each for each in (value, other)]
    assert _found(language, day, said, schema, exact[0])
    assert not _found(language, day, said, schema, exact[1])


def test_a_figure_of_another_script_by_a_measure_breaks_nothing() -> None:
    assert not _found("en", "2026-03-02", "It is \u1369.5 hours of work.", NUMBER, Decimal(77), "minutes")
