"""Texts of the mixed post: calls, a meeting, web pages, e-invoices, lists. All of it is made up."""

from __future__ import annotations

from typing import Any

Said = tuple[str, int, int, str]  # speaker, start and end in milliseconds, words

CALL: tuple[Said, ...] = (
    ("Linnea Brook", 0, 2600, "Ellerby Botanic Garden, visitor line, good morning."),
    ("Caller", 2900, 6400, "Good morning. When do the glasshouses open on Sunday?"),
    ("Linnea Brook", 6800, 9900, "At half past nine, and the tea room at ten."),
    ("Caller", 10200, 15500, "We are a party of fourteen with two wheelchairs. Señor Ibáñez asked me to book the fern walk."),
    ("Linnea Brook", 15900, 21000, "I have put you down for eleven o'clock. May I have a number to call back?"),
    ("Caller", 21300, 25800, "It is 01632 960 412, and the name is Quillon Hart."),
    ("Linnea Brook", 26100, 29000, "Thank you, you will get a message with the details."),
)

VOICE_NOTE: dict[str, Any] = {
    "language": "en",
    "text": "Twelve eighty for twine at the market in Wexcombe. Please put it on the collecting budget.",
    "segments": [
        {"start": 0.0, "end": 2.1, "text": "12.80 for twine at the market in Wexcombe."},
        {"start": 2.3, "end": 4.0, "text": "Please put it on the collecting budget."},
    ],
}

MEETING = """[00:00:04] Ottilie Crane: Shall we begin? First the roof of the palm house.
[00:00:11] Barnaby Wells: Two quotations are in, one for 48,200 and one for 51,900.
[00:00:24] Ottilie Crane: Does either of them include the gutters?
[00:00:29] Barnaby Wells: Only the second one does.
[00:00:33] Marguerite Osei: Then it is the cheaper one in the end.
[00:00:41] Ottilie Crane: Agreed. Barnaby will sign by the end of May.
[00:00:48] Barnaby Wells: I will, and send it round first.
[00:00:53] Marguerite Osei: The seed exchange needs a date as well.
[00:00:58] Ottilie Crane: Let us take the twelfth of September.
"""


def _stamp(at: int, mark: str) -> str:
    return f"{at // 3600000:02}:{at // 60000 % 60:02}:{at // 1000 % 60:02}{mark}{at % 1000:03}"


def vtt(call: tuple[Said, ...]) -> str:
    """A call as WebVTT with voices."""
    cues = [f"{_stamp(start, '.')} --> {_stamp(end, '.')}\n<v {who}>{text}" for who, start, end, text in call]
    return "WEBVTT\n\nNOTE recorded by the visitor line\n\n" + "\n\n".join(cues) + "\n"


def srt(call: tuple[Said, ...]) -> str:
    """The same as SubRip, with two time stamps damaged."""
    cues = []
    for number, (who, start, end, text) in enumerate(call, 1):
        times = f"{_stamp(start, ',')} --> {_stamp(end, ',')}" if number != 3 else f"{_stamp(start, ',')} -> 00:00:9x,900"
        cues.append(f"{number}\n{times}\n{who}: {text}")
    return "\n\n".join(cues) + "\n"


def sentences(call: tuple[Said, ...]) -> dict[str, Any]:
    """The same as a call service posts it."""
    rows = [{"speaker": who, "start": start / 1000, "end": end / 1000, "text": text} for who, start, end, text in call]
    return {"call_id": "c-2026-0417", "number": "+441632960412", "sentences": rows}


PRICE_PAGE = """<!doctype html>
<html lang="en"><head><title>Spring price list – Hartwell Seeds</title>
<meta name="description" content="Seed prices for spring 2026">
<script type="application/ld+json">{"@context": "https://schema.org", "@type": "Product", "name": "Hellebore “Winter Moth”",
 "offers": {"@type": "Offer", "price": 3.95, "priceCurrency": "GBP"}}</script>
<style>.x{color:red}</style></head>
<body>
<div class="cookie-banner"><p>We use cookies.</p><button>Accept all cookies</button><a href="/cookies">Accept all cookies</a></div>
<nav><ul><li><a href="/">Home</a></li><li><a href="/seeds">Seeds</a></li></ul></nav>
<main>
<h1>Spring price list</h1>
<p>All prices are for one packet and hold until the end of May 2026. Orders above thirty pounds are sent free of postage.</p>
<p>Hellebore “Winter Moth”: <del>£4.50</del> £3.95 while stocks last.</p>
<table><thead><tr><th>Article</th><th>Seed</th><th>Price</th></tr></thead><tbody>
<tr><td>H-101</td><td>Hellebore “Winter Moth”</td><td><s>£4.50</s> £3.95</td></tr>
<tr><td>P-220</td><td>Poppy “Ember”</td><td>£3.80</td></tr>
<tr><td>S-318</td><td>Sweet pea “Harbour”</td><td>£2.60</td></tr>
<tr><td>F-402</td><td>Foxglove “Steeple”</td><td>£2.95</td></tr>
</tbody></table>
<p>Write to sales (at) hartwell-seeds (dot) example or call 01632 960 775.</p>
<p style="display:none">This offer is free of charge to bots.</p>
</main>
<aside><h2>Follow us</h2><a href="https://social.example/hartwell">Follow us</a></aside>
<footer><p>Hartwell Seeds, Mill Lane 4, Harrowdene</p></footer>
</body></html>
"""

ARTICLE = """<html lang="en"><head><meta charset="iso-8859-1"><title>Fern Journal</title><meta name="author" content="Frédérique Lanoë">
<meta property="article:published_time" content="2026-04-18"></head><body>
<div id="menu"><a href="/a">News</a> <a href="/b">Plants</a> <a href="/c">Shop</a></div>
<div class="wrap"><div class="content"><h1>The tree ferns of the Ellerby glasshouse</h1>
<p class="byline">By Frédérique Lanoë, 18 April 2026</p>
<p>When the glasshouse was put up, nobody thought that it would one day be too low. The tree ferns have grown by a hand's breadth every year since.</p>
<p>Most of the younger plants came from a single frond that the head gardener, Ambrose Tully, brought home in a damp newspaper. He kept the spores on a tile in the boiler room, where it was warm and dark.</p>
<p>This spring the roof is to be raised by two metres. The work will take until September, and visitors may watch it from the gallery.</p>
</div><div class="sidebar"><h3>Most read</h3><ul><li><a href="/1">Ten mosses</a></li><li><a href="/2">Orchid thieves</a></li></ul>
<div class="newsletter">Subscribe to our newsletter</div></div></div></body></html>
"""

MOVEMENTS = """Buchungstag;Empfänger;Verwendungszweck;Betrag
03.03.2026;Bürobedarf Lindner;Rechnung 4471;-86,20
05.03.2026;Tannhof Baumschulen GmbH;"TB-2026-101; Frühjahr";-1.204,50
09.03.2026;Förderverein;Spende März;500,00
12.03.2026;Stadtwerke;Abschlag;-318,00
17.03.2026;Café im Garten;Pacht;950,00
"""

UBL = """<?xml version="1.0" encoding="UTF-8"?>
<Invoice xmlns="urn:oasis:names:specification:ubl:schema:xsd:Invoice-2"
 xmlns:cac="urn:oasis:names:specification:ubl:schema:xsd:CommonAggregateComponents-2"
 xmlns:cbc="urn:oasis:names:specification:ubl:schema:xsd:CommonBasicComponents-2">
 <cbc:ID>MSC-8841</cbc:ID><cbc:IssueDate>2026-05-04</cbc:IssueDate><cbc:DueDate>2026-06-03</cbc:DueDate>
 <cbc:InvoiceTypeCode>380</cbc:InvoiceTypeCode><cbc:DocumentCurrencyCode>GBP</cbc:DocumentCurrencyCode>
 <cac:OrderReference><cbc:ID>EBG-388</cbc:ID></cac:OrderReference>
 <cac:AccountingSupplierParty><cac:Party><cac:PartyTaxScheme><cbc:CompanyID>GB730115562</cbc:CompanyID></cac:PartyTaxScheme>
  <cac:PartyLegalEntity><cbc:RegistrationName>Moorgate Seed Company Ltd</cbc:RegistrationName></cac:PartyLegalEntity></cac:Party></cac:AccountingSupplierParty>
 <cac:AccountingCustomerParty><cac:Party><cac:PartyLegalEntity><cbc:RegistrationName>Ellerby Botanic Garden</cbc:RegistrationName></cac:PartyLegalEntity></cac:Party></cac:AccountingCustomerParty>
 <cac:TaxTotal><cbc:TaxAmount currencyID="GBP">31.80</cbc:TaxAmount></cac:TaxTotal>
 <cac:LegalMonetaryTotal><cbc:LineExtensionAmount currencyID="GBP">159.00</cbc:LineExtensionAmount><cbc:TaxExclusiveAmount currencyID="GBP">159.00</cbc:TaxExclusiveAmount>
  <cbc:TaxInclusiveAmount currencyID="GBP">190.80</cbc:TaxInclusiveAmount><cbc:PayableAmount currencyID="GBP">190.80</cbc:PayableAmount></cac:LegalMonetaryTotal>
 <cac:InvoiceLine><cbc:ID>1</cbc:ID><cbc:InvoicedQuantity unitCode="C62">30</cbc:InvoicedQuantity><cbc:LineExtensionAmount currencyID="GBP">63.00</cbc:LineExtensionAmount>
  <cac:Item><cbc:Name>Poppy “Ember”, packet</cbc:Name><cac:SellersItemIdentification><cbc:ID>P-220</cbc:ID></cac:SellersItemIdentification>
  <cac:ClassifiedTaxCategory><cbc:Percent>20</cbc:Percent></cac:ClassifiedTaxCategory></cac:Item><cac:Price><cbc:PriceAmount currencyID="GBP">2.10</cbc:PriceAmount></cac:Price></cac:InvoiceLine>
 <cac:InvoiceLine><cbc:ID>2</cbc:ID><cbc:InvoicedQuantity unitCode="C62">40</cbc:InvoicedQuantity><cbc:LineExtensionAmount currencyID="GBP">96.00</cbc:LineExtensionAmount>
  <cac:Item><cbc:Name>Sweet pea “Harbour”, packet</cbc:Name><cac:SellersItemIdentification><cbc:ID>S-318</cbc:ID></cac:SellersItemIdentification>
  <cac:ClassifiedTaxCategory><cbc:Percent>20</cbc:Percent></cac:ClassifiedTaxCategory></cac:Item><cac:Price><cbc:PriceAmount currencyID="GBP">2.40</cbc:PriceAmount></cac:Price></cac:InvoiceLine>
</Invoice>
"""

CII = """<?xml version="1.0" encoding="UTF-8"?>
<rsm:CrossIndustryInvoice xmlns:rsm="urn:un:unece:uncefact:data:standard:CrossIndustryInvoice:100"
 xmlns:ram="urn:un:unece:uncefact:data:standard:ReusableAggregateBusinessInformationEntity:100"
 xmlns:udt="urn:un:unece:uncefact:data:standard:UnqualifiedDataType:100">
 <rsm:ExchangedDocument><ram:ID>TB-2026-119</ram:ID><ram:TypeCode>380</ram:TypeCode>
  <ram:IssueDateTime><udt:DateTimeString format="102">20260506</udt:DateTimeString></ram:IssueDateTime></rsm:ExchangedDocument>
 <rsm:SupplyChainTradeTransaction>
  <ram:IncludedSupplyChainTradeLineItem><ram:AssociatedDocumentLineDocument><ram:LineID>1</ram:LineID></ram:AssociatedDocumentLineDocument>
   <ram:SpecifiedTradeProduct><ram:SellerAssignedID>EI-60</ram:SellerAssignedID><ram:Name>Eibe, 60–80 cm, Ballen</ram:Name></ram:SpecifiedTradeProduct>
   <ram:SpecifiedLineTradeAgreement><ram:NetPriceProductTradePrice><ram:ChargeAmount>11.80</ram:ChargeAmount></ram:NetPriceProductTradePrice></ram:SpecifiedLineTradeAgreement>
   <ram:SpecifiedLineTradeDelivery><ram:BilledQuantity unitCode="C62">40</ram:BilledQuantity></ram:SpecifiedLineTradeDelivery>
   <ram:SpecifiedLineTradeSettlement><ram:ApplicableTradeTax><ram:RateApplicablePercent>19</ram:RateApplicablePercent></ram:ApplicableTradeTax>
    <ram:SpecifiedTradeSettlementLineMonetarySummation><ram:LineTotalAmount>472.00</ram:LineTotalAmount></ram:SpecifiedTradeSettlementLineMonetarySummation></ram:SpecifiedLineTradeSettlement>
  </ram:IncludedSupplyChainTradeLineItem>
  <ram:ApplicableHeaderTradeAgreement><ram:SellerTradeParty><ram:Name>Tannhof Baumschulen GmbH</ram:Name>
    <ram:SpecifiedTaxRegistration><ram:ID schemeID="VA">DE811204377</ram:ID></ram:SpecifiedTaxRegistration></ram:SellerTradeParty>
   <ram:BuyerTradeParty><ram:Name>Ellerby Botanic Garden</ram:Name></ram:BuyerTradeParty></ram:ApplicableHeaderTradeAgreement>
  <ram:ApplicableHeaderTradeDelivery/>
  <ram:ApplicableHeaderTradeSettlement><ram:InvoiceCurrencyCode>EUR</ram:InvoiceCurrencyCode>
   <ram:SpecifiedTradePaymentTerms><ram:DueDateDateTime><udt:DateTimeString format="102">20260605</udt:DateTimeString></ram:DueDateDateTime></ram:SpecifiedTradePaymentTerms>
   <ram:SpecifiedTradeSettlementHeaderMonetarySummation><ram:LineTotalAmount>472.00</ram:LineTotalAmount><ram:TaxBasisTotalAmount>472.00</ram:TaxBasisTotalAmount>
    <ram:TaxTotalAmount currencyID="EUR">89.68</ram:TaxTotalAmount><ram:GrandTotalAmount>561.68</ram:GrandTotalAmount><ram:DuePayableAmount>561.68</ram:DuePayableAmount>
   </ram:SpecifiedTradeSettlementHeaderMonetarySummation></ram:ApplicableHeaderTradeSettlement>
 </rsm:SupplyChainTradeTransaction>
</rsm:CrossIndustryInvoice>
"""

VCARD = """BEGIN:VCARD
VERSION:4.0
FN:Perpetua Moss
ORG:Fernhill Nurseries Ltd
TITLE:Accounts
TEL;TYPE=work:+44 1632 960143
EMAIL:accounts@fernhill-nurseries.example
ADR;TYPE=work:;;Holloway Road 12;Wexcombe;;WX3 8LD;GB
NOTE:Asks for the order number on every payment\\, always.
END:VCARD
"""

ICALENDAR = """BEGIN:VCALENDAR
VERSION:2.0
PRODID:-//Ellerby Botanic Garden//Events//EN
BEGIN:VEVENT
UID:open-day-2026@ellerby-garden.example
DTSTART;TZID=Europe/London:20260613T100000
DTEND;TZID=Europe/London:20260613T170000
SUMMARY:Open day in the walled garden
LOCATION:Walled garden\\, north gate
DESCRIPTION:Seed exchange at eleven. Please bring your own envelop
 es and labels.
END:VEVENT
END:VCALENDAR
"""

WEATHER = """{"station": {"name": "North terrace", "height_m": 84, "working": true},
 "readings": [{"at": "2026-03-01T06:00", "rain_mm": 0.20, "lowest": -1.5}, {"at": "2026-03-02T06:00", "rain_mm": 0.00, "lowest": 0.4},
 {"at": "2026-03-03T06:00", "rain_mm": 4.10, "lowest": 3.0}]}
"""

MAIL = """Dear colleagues,

Please find our invoice attached. The yew trees will follow on Thursday.

Kind regards
Perpetua Moss

On 6 March 2026, the Ellerby office wrote:
> Could you tell us when the yew trees will come?
> And please send the invoice by mail.
"""

MAIL_MARKED = """<html><body><p>Dear colleagues,</p><p>Please find our invoice attached. The yew trees will follow on Thursday.</p>
<p>Kind regards<br>Perpetua Moss</p><img src="cid:logo" alt="Fernhill"><blockquote>Could you tell us when the yew trees will come?</blockquote></body></html>
"""
