"""How senders in four languages word their bills, and how they print figures and dates."""

from __future__ import annotations

from datetime import date
from decimal import Decimal

LABELS: dict[str, dict[str, tuple[str, ...]]] = {
    "en": {
        "invoice": ("Invoice", "INVOICE", "Tax Invoice", "Sales Invoice"),
        "credit note": ("Credit Note", "CREDIT NOTE"),
        "number": ("Invoice No.", "Invoice number", "Invoice #", "Document no.", "Inv. No."),
        "date": ("Date", "Invoice date", "Date of issue", "Issued"),
        "due": ("Due date", "Payment due", "Please pay by", "Due"),
        "order": ("Your order", "PO number", "Order no.", "Your reference"),
        "customer": ("Customer no.", "Account", "Client ID"),
        "delivered": ("Delivery date", "Dispatched"),
        "net": ("Subtotal", "Net total", "Net amount", "Goods total"),
        "tax": ("VAT {r}%", "VAT @ {r}%", "Sales tax ({r}%)", "plus {r}% VAT"),
        "total": ("Total", "Amount due", "Invoice total", "Total due", "Grand total"),
        "tax id": ("VAT No.", "VAT Reg. No.", "VAT ID"),
        "to": ("Bill to", "Invoice to", "Sold to"),
        "pos": ("#", "Line", "Pos"),
        "part": ("Code", "Item no.", "Part no.", "SKU", "Article"),
        "text": ("Description", "Item", "Plant / article", "Details"),
        "quantity": ("Qty", "Quantity"),
        "unit": ("Unit", "UoM"),
        "price": ("Unit price", "Price", "Price each", "Rate"),
        "amount": ("Amount", "Line total", "Net", "Total"),
        "carried": ("Carried forward",),
        "thanks": ("Thank you for your order.", "Goods remain our property until paid in full."),
    },
    "de": {
        "invoice": ("Rechnung", "RECHNUNG"),
        "credit note": ("Gutschrift",),
        "number": ("Rechnungsnummer", "Rechnung Nr.", "Rechnungs-Nr.", "Belegnummer"),
        "date": ("Rechnungsdatum", "Datum"),
        "due": ("Zahlbar bis", "Fällig am", "Fälligkeitsdatum"),
        "order": ("Ihre Bestellung", "Bestellnummer", "Auftragsnummer"),
        "customer": ("Kundennummer", "Kunden-Nr."),
        "delivered": ("Lieferdatum",),
        "net": ("Nettobetrag", "Zwischensumme", "Summe netto"),
        "tax": ("MwSt. {r} %", "zzgl. {r} % MwSt.", "USt. {r} %"),
        "total": ("Gesamtbetrag", "Rechnungsbetrag", "Endbetrag", "Zu zahlen"),
        "tax id": ("USt-IdNr.", "USt-ID"),
        "to": ("Rechnung an", "An"),
        "pos": ("Pos.", "Nr."),
        "part": ("Art.-Nr.", "Artikelnr.", "Artikel"),
        "text": ("Bezeichnung", "Beschreibung", "Artikelbezeichnung"),
        "quantity": ("Menge", "Anzahl"),
        "unit": ("Einheit", "ME"),
        "price": ("Einzelpreis", "Preis", "Stückpreis"),
        "amount": ("Betrag", "Gesamt", "Gesamtpreis"),
        "carried": ("Übertrag",),
        "thanks": ("Vielen Dank für Ihren Auftrag.", "Die Ware bleibt bis zur Bezahlung unser Eigentum."),
    },
    "fr": {
        "invoice": ("Facture", "FACTURE"),
        "credit note": ("Avoir", "Note de crédit"),
        "number": ("Facture n°", "Numéro de facture", "N° de facture"),
        "date": ("Date", "Date de facture", "Date d'émission"),
        "due": ("Échéance", "Date d'échéance", "À payer avant le"),
        "order": ("Votre commande", "N° de commande", "Réf. commande"),
        "customer": ("N° client", "Code client"),
        "delivered": ("Date de livraison",),
        "net": ("Total HT", "Montant HT", "Sous-total HT"),
        "tax": ("TVA {r} %", "TVA ({r} %)"),
        "total": ("Total TTC", "Net à payer", "Montant TTC"),
        "tax id": ("N° TVA", "TVA intracom."),
        "to": ("Facturé à", "Client"),
        "pos": ("N°",),
        "part": ("Réf.", "Référence", "Code article"),
        "text": ("Désignation", "Description"),
        "quantity": ("Qté", "Quantité"),
        "unit": ("Unité",),
        "price": ("Prix unitaire", "P.U. HT", "Prix unit."),
        "amount": ("Montant", "Montant HT", "Total HT"),
        "carried": ("Report",),
        "thanks": ("Merci de votre confiance.",),
    },
    "nl": {
        "invoice": ("Factuur", "FACTUUR"),
        "credit note": ("Creditnota",),
        "number": ("Factuurnummer", "Factuurnr."),
        "date": ("Factuurdatum", "Datum"),
        "due": ("Vervaldatum", "Te betalen voor"),
        "order": ("Uw bestelling", "Ordernummer", "Uw referentie"),
        "customer": ("Klantnummer", "Debiteurnr."),
        "delivered": ("Leverdatum",),
        "net": ("Subtotaal", "Totaal excl. btw"),
        "tax": ("Btw {r}%", "{r}% btw"),
        "total": ("Totaal", "Totaal incl. btw", "Te betalen"),
        "tax id": ("Btw-nummer", "Btw-id"),
        "to": ("Factuur aan",),
        "pos": ("Nr.", "Regel"),
        "part": ("Artikelnr.", "Code"),
        "text": ("Omschrijving", "Artikel"),
        "quantity": ("Aantal",),
        "unit": ("Eenheid",),
        "price": ("Prijs", "Stukprijs"),
        "amount": ("Bedrag", "Totaal"),
        "carried": ("Transport",),
        "thanks": ("Hartelijk dank voor uw bestelling.",),
    },
}  # fmt: skip

_MONTHS = {
    "en": "January February March April May June July August September October November December",
    "de": "Januar Februar März April Mai Juni Juli August September Oktober November Dezember",
    "fr": "janvier février mars avril mai juin juillet août septembre octobre novembre décembre",
    "nl": "januari februari maart april mei juni juli augustus september oktober november december",
}
SIGNS = {"EUR": "€", "GBP": "£", "USD": "$", "CHF": "CHF"}


def printed_number(value: Decimal, style: str, places: int = 2) -> str:
    """A figure in the style "en" 1,234.50, "de" 1.234,50, "fr" 1 234,50 or "ch" 1'234.50."""
    group, mark = {"en": (",", "."), "de": (".", ","), "fr": (" ", ","), "ch": ("'", ".")}[style]
    text = f"{value:,.{places}f}"
    return text.replace(",", "\0").replace(".", mark).replace("\0", group)


def printed_quantity(value: Decimal, style: str) -> str:
    """A quantity: whole ones without a fraction."""
    whole = value == value.to_integral_value()
    return printed_number(value, style, 0 if whole else 2)


def printed_date(value: date, style: str, language: str) -> str:
    """A date in one of the styles "iso", "dots", "slashes", "american", "words", "month first"."""
    month = _MONTHS[language].split()[value.month - 1]
    dot = "." if language == "de" else ""
    return {
        "iso": value.isoformat(),
        "dots": value.strftime("%d.%m.%Y"),
        "slashes": value.strftime("%d/%m/%Y"),
        "american": value.strftime("%m/%d/%Y"),
        "words": f"{value.day}{dot} {month} {value.year}",
        "month first": f"{month} {value.day}, {value.year}",
    }[style]


def printed_money(value: Decimal, style: str, currency: str, where: str) -> str:
    """An amount with its currency "before", "after", as a "code", or "none"."""
    number = printed_number(value, style)
    sign = SIGNS[currency]
    return {
        "before": f"{sign}{number}" if sign != "CHF" else f"CHF {number}",
        "after": f"{number} {sign}",
        "code": f"{currency} {number}",
        "none": number,
    }[where]
