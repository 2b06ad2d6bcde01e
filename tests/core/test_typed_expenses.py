"""What somebody types or dictates into a chat about one thing that was bought goes through with a model that reads it right, and never with one that does not."""

from __future__ import annotations

from decimal import Decimal

import pytest

from metrikon.core.records.findings import stops
from tests.core.test_belonging import spent

# language, message, total, what was bought, currency
MESSAGES = """
en|12 on potting soil|12|potting soil|
en|spent 30 euros on gloves|30|gloves|EUR
en|£8.40 for twine|8.40|twine|GBP
en|twelve pounds on potting soil|12|potting soil|GBP
en|Bought a watering can, 17.95|17.95|watering can|
en|just paid nine fifty for labels|9.50|labels|
en|twenty two euros fifty for seed trays|22.50|seed trays|EUR
en|Parking at the nursery was 4 euros|4|Parking|EUR
en|so I got some slug pellets that was six pounds thirty|6.30|slug pellets|GBP
en|Lunch with the volunteers 46.20 EUR|46.20|Lunch with the volunteers|EUR
de|Blumenerde 12,50 €|12.50|Blumenerde|EUR
de|12 für Blumenerde|12|Blumenerde|
de|zwölf Euro für Blumenerde|12|Blumenerde|EUR
de|Habe gerade Handschuhe gekauft, 8 Euro 90|8.90|Handschuhe|EUR
de|Neun Euro fünfzig für Etiketten ausgegeben|9.50|Etiketten|EUR
de|Gießkanne 1.017,95|1017.95|Gießkanne|
de|Parken am Bahnhof 3,20 EUR|3.20|Parken am Bahnhof|EUR
de|dreiundzwanzig Franken für Saatschalen|23|Saatschalen|CHF
de|Ich hab 46 Euro 20 fürs Mittagessen mit den Freiwilligen bezahlt|46.20|Mittagessen mit den Freiwilligen|EUR
de|Schnur: 5,-|5|Schnur|
fr|12 pour du terreau|12|terreau|
fr|Terreau 12,50 €|12.50|Terreau|EUR
fr|douze euros de terreau|12|terreau|EUR
fr|J'ai payé 8 euros 90 pour des gants|8.90|gants|EUR
fr|gants de jardin, 14,00|14|gants de jardin|
fr|neuf euros cinquante pour les étiquettes|9.50|étiquettes|EUR
fr|Parking à la pépinière : 4 EUR|4|Parking à la pépinière|EUR
fr|vingt-deux francs suisses pour un arrosoir|22|arrosoir|CHF
fr|Déjeuner avec les bénévoles 46,20 euros|46.20|Déjeuner avec les bénévoles|EUR
fr|acheté une ficelle à 3 €|3|ficelle|EUR
es|12 en tierra para macetas|12|tierra para macetas|
es|Tierra para macetas 12,50 €|12.50|Tierra para macetas|EUR
es|doce euros en tierra|12|tierra|EUR
es|He pagado 8 euros con 90 por unos guantes|8.90|guantes|EUR
es|guantes de jardín, 14,00|14|guantes de jardín|
es|nueve euros con cincuenta en etiquetas|9.50|etiquetas|EUR
es|Aparcamiento del vivero: 4 EUR|4|Aparcamiento del vivero|EUR
es|veintidós euros por una regadera|22|regadera|EUR
es|Comida con los voluntarios 46,20 euros|46.20|Comida con los voluntarios|EUR
es|compré un rollo de cuerda por 3 €|3|rollo de cuerda|EUR
it|12 per il terriccio|12|terriccio|
it|Terriccio 12,50 €|12.50|Terriccio|EUR
it|dodici euro di terriccio|12|terriccio|EUR
it|Ho speso 8 euro e 90 per i guanti|8.90|guanti|EUR
it|guanti da giardino, 14,00|14|guanti da giardino|
it|nove euro e cinquanta per le etichette|9.50|etichette|EUR
it|Parcheggio del vivaio: 4 EUR|4|Parcheggio del vivaio|EUR
it|ventidue euro per un annaffiatoio|22|annaffiatoio|EUR
it|Pranzo con i volontari 46,20 euro|46.20|Pranzo con i volontari|EUR
it|preso un rotolo di spago a 3 €|3|rotolo di spago|EUR
""".strip().splitlines()


@pytest.mark.parametrize("message", MESSAGES)
def test_a_message_of_one_expense_goes_through_with_what_it_says_and_stops_with_what_it_does_not(message: str) -> None:
    _, text, total, what, currency = message.split("|")
    right, wrong = Decimal(total), Decimal(total) + 3
    found = spent(text, right, [(what, right)], currency or None)
    assert not stops(found.findings), [each.message for each in found.findings]
    assert (found.record["total"], found.record["bought"], found.record.get("currency")) == (
        right,
        [{"what": what, "amount": right}],
        currency or None,
    )
    assert all(each.confidence >= 0.6 for each in found.evidence.values() if each.box is not None)
    assert stops(spent(text, wrong, [(what, right)], currency or None).findings)
    assert stops(spent(text, wrong, [(what, wrong)], currency or None).findings)
