"""E-invoices after EN 16931 in its two syntaxes: UBL 2.1 (OASIS) and Cross Industry Invoice D16B (UN/CEFACT).

Each business term (BT-…) is taken from the path that the standard's syntax bindings (CEN/TS 16931-3-2
and 3-3) give it. The file's own sums are not trusted: they are facts like the others, and are checked.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from lxml import etree

from metrikon.core.documents.model import Fact
from metrikon.core.documents.setting import Block, Grid
from metrikon.core.records.types import worded
from metrikon.core.values.text import clean

_UBL = {
    "cac": "urn:oasis:names:specification:ubl:schema:xsd:CommonAggregateComponents-2",
    "cbc": "urn:oasis:names:specification:ubl:schema:xsd:CommonBasicComponents-2",
}
_CII = {
    "rsm": "urn:un:unece:uncefact:data:standard:CrossIndustryInvoice:100",
    "ram": "urn:un:unece:uncefact:data:standard:ReusableAggregateBusinessInformationEntity:100",
    "udt": "urn:un:unece:uncefact:data:standard:UnqualifiedDataType:100",
}
_SELLER, _BUYER = "cac:AccountingSupplierParty/cac:Party", "cac:AccountingCustomerParty/cac:Party"
_TOTALS = "cac:LegalMonetaryTotal"
# term, name, path in UBL, path in CII below SupplyChainTradeTransaction or ExchangedDocument
_TERMS: tuple[tuple[str, str, str, str], ...] = (
    ("BT-1", "Invoice number", "cbc:ID", "rsm:ExchangedDocument/ram:ID"),
    ("BT-2", "Invoice date", "cbc:IssueDate", "rsm:ExchangedDocument/ram:IssueDateTime/udt:DateTimeString"),
    ("BT-3", "Invoice type code", "cbc:InvoiceTypeCode|cbc:CreditNoteTypeCode", "rsm:ExchangedDocument/ram:TypeCode"),
    ("BT-5", "Currency", "cbc:DocumentCurrencyCode", "{S}/ram:InvoiceCurrencyCode"),
    ("BT-9", "Due date", "cbc:DueDate|cac:PaymentMeans/cbc:PaymentDueDate", "{S}/ram:SpecifiedTradePaymentTerms/ram:DueDateDateTime/udt:DateTimeString"),
    ("BT-10", "Buyer reference", "cbc:BuyerReference", "{A}/ram:BuyerReference"),
    ("BT-13", "Order number", "cac:OrderReference/cbc:ID", "{A}/ram:BuyerOrderReferencedDocument/ram:IssuerAssignedID"),
    ("BT-20", "Payment terms", "cac:PaymentTerms/cbc:Note", "{S}/ram:SpecifiedTradePaymentTerms/ram:Description"),
    ("BT-22", "Note", "cbc:Note", "rsm:ExchangedDocument/ram:IncludedNote/ram:Content"),
    ("BT-25", "Preceding invoice", "cac:BillingReference/cac:InvoiceDocumentReference/cbc:ID", "{S}/ram:InvoiceReferencedDocument/ram:IssuerAssignedID"),
    ("BT-27", "Seller", f"{_SELLER}/cac:PartyLegalEntity/cbc:RegistrationName", "{A}/ram:SellerTradeParty/ram:Name"),
    ("BT-28", "Seller trading name", f"{_SELLER}/cac:PartyName/cbc:Name", "{A}/ram:SellerTradeParty/ram:SpecifiedLegalOrganization/ram:TradingBusinessName"),
    ("BT-31", "Seller VAT number", f"{_SELLER}/cac:PartyTaxScheme/cbc:CompanyID", "{A}/ram:SellerTradeParty/ram:SpecifiedTaxRegistration/ram:ID[@schemeID='VA']"),
    ("BT-40", "Seller country", f"{_SELLER}/cac:PostalAddress/cac:Country/cbc:IdentificationCode", "{A}/ram:SellerTradeParty/ram:PostalTradeAddress/ram:CountryID"),
    ("BT-44", "Buyer", f"{_BUYER}/cac:PartyLegalEntity/cbc:RegistrationName", "{A}/ram:BuyerTradeParty/ram:Name"),
    ("BT-72", "Delivery date", "cac:Delivery/cbc:ActualDeliveryDate", "{D}/ram:ActualDeliverySupplyChainEvent/ram:OccurrenceDateTime/udt:DateTimeString"),
    ("BT-84", "IBAN", "cac:PaymentMeans/cac:PayeeFinancialAccount/cbc:ID", "{S}/ram:SpecifiedTradeSettlementPaymentMeans/ram:PayeePartyCreditorFinancialAccount/ram:IBANID"),
    ("BT-106", "Sum of lines", f"{_TOTALS}/cbc:LineExtensionAmount", "{M}/ram:LineTotalAmount"),
    ("BT-109", "Subtotal", f"{_TOTALS}/cbc:TaxExclusiveAmount", "{M}/ram:TaxBasisTotalAmount"),
    ("BT-110", "Tax", "cac:TaxTotal/cbc:TaxAmount", "{M}/ram:TaxTotalAmount"),
    ("BT-112", "Total", f"{_TOTALS}/cbc:TaxInclusiveAmount", "{M}/ram:GrandTotalAmount"),
    ("BT-113", "Paid", f"{_TOTALS}/cbc:PrepaidAmount", "{M}/ram:TotalPrepaidAmount"),
    ("BT-11", "Project", "cac:ProjectReference/cbc:ID", "{A}/ram:SpecifiedProcuringProject/ram:ID"),
    ("BT-12", "Contract number", "cac:ContractDocumentReference/cbc:ID", "{A}/ram:ContractReferencedDocument/ram:IssuerAssignedID"),
    ("BT-16", "Delivery note number", "cac:DespatchDocumentReference/cbc:ID", "{D}/ram:DespatchAdviceReferencedDocument/ram:IssuerAssignedID"),
    ("BT-26", "Preceding invoice date", "cac:BillingReference/cac:InvoiceDocumentReference/cbc:IssueDate", "{S}/ram:InvoiceReferencedDocument/ram:FormattedIssueDateTime/*"),
    ("BT-30", "Seller registration number", f"{_SELLER}/cac:PartyLegalEntity/cbc:CompanyID", "{A}/ram:SellerTradeParty/ram:SpecifiedLegalOrganization/ram:ID"),
    ("BT-32", "Seller tax number", f"{_SELLER}/cac:PartyTaxScheme[cac:TaxScheme/cbc:ID!='VAT']/cbc:CompanyID", "{A}/ram:SellerTradeParty/ram:SpecifiedTaxRegistration/ram:ID[@schemeID='FC']"),
    ("BT-35", "Seller street", f"{_SELLER}/cac:PostalAddress/cbc:StreetName", "{A}/ram:SellerTradeParty/ram:PostalTradeAddress/ram:LineOne"),
    ("BT-37", "Seller town", f"{_SELLER}/cac:PostalAddress/cbc:CityName", "{A}/ram:SellerTradeParty/ram:PostalTradeAddress/ram:CityName"),
    ("BT-38", "Seller postcode", f"{_SELLER}/cac:PostalAddress/cbc:PostalZone", "{A}/ram:SellerTradeParty/ram:PostalTradeAddress/ram:PostcodeCode"),
    ("BT-41", "Seller contact person", f"{_SELLER}/cac:Contact/cbc:Name", "{A}/ram:SellerTradeParty/ram:DefinedTradeContact/ram:PersonName"),
    ("BT-42", "Seller telephone", f"{_SELLER}/cac:Contact/cbc:Telephone", "{A}/ram:SellerTradeParty/ram:DefinedTradeContact/ram:TelephoneUniversalCommunication/ram:CompleteNumber"),
    ("BT-43", "Seller mail address", f"{_SELLER}/cac:Contact/cbc:ElectronicMail", "{A}/ram:SellerTradeParty/ram:DefinedTradeContact/ram:EmailURIUniversalCommunication/ram:URIID"),
    ("BT-46", "Buyer customer number", f"{_BUYER}/cac:PartyIdentification/cbc:ID", "{A}/ram:BuyerTradeParty/ram:ID"),
    ("BT-48", "Buyer VAT number", f"{_BUYER}/cac:PartyTaxScheme/cbc:CompanyID", "{A}/ram:BuyerTradeParty/ram:SpecifiedTaxRegistration/ram:ID[@schemeID='VA']"),
    ("BT-50", "Buyer street", f"{_BUYER}/cac:PostalAddress/cbc:StreetName", "{A}/ram:BuyerTradeParty/ram:PostalTradeAddress/ram:LineOne"),
    ("BT-52", "Buyer town", f"{_BUYER}/cac:PostalAddress/cbc:CityName", "{A}/ram:BuyerTradeParty/ram:PostalTradeAddress/ram:CityName"),
    ("BT-53", "Buyer postcode", f"{_BUYER}/cac:PostalAddress/cbc:PostalZone", "{A}/ram:BuyerTradeParty/ram:PostalTradeAddress/ram:PostcodeCode"),
    ("BT-55", "Buyer country", f"{_BUYER}/cac:PostalAddress/cac:Country/cbc:IdentificationCode", "{A}/ram:BuyerTradeParty/ram:PostalTradeAddress/ram:CountryID"),
    ("BT-86", "BIC", "cac:PaymentMeans/cac:PayeeFinancialAccount/cac:FinancialInstitutionBranch/cbc:ID", "{S}/ram:SpecifiedTradeSettlementPaymentMeans/ram:PayeeSpecifiedCreditorFinancialInstitution/ram:BICID"),
    ("BT-107", "Discount", f"{_TOTALS}/cbc:AllowanceTotalAmount", "{M}/ram:AllowanceTotalAmount"),
    ("BT-108", "Charges", f"{_TOTALS}/cbc:ChargeTotalAmount", "{M}/ram:ChargeTotalAmount"),
    ("BT-114", "Rounding", f"{_TOTALS}/cbc:PayableRoundingAmount", "{M}/ram:RoundingAmount"),
    ("BT-115", "Amount due", f"{_TOTALS}/cbc:PayableAmount", "{M}/ram:DuePayableAmount"),
)  # fmt: skip
_SHORT = {
    "{A}": "rsm:SupplyChainTradeTransaction/ram:ApplicableHeaderTradeAgreement",
    "{D}": "rsm:SupplyChainTradeTransaction/ram:ApplicableHeaderTradeDelivery",
    "{S}": "rsm:SupplyChainTradeTransaction/ram:ApplicableHeaderTradeSettlement",
    "{M}": "rsm:SupplyChainTradeTransaction/ram:ApplicableHeaderTradeSettlement/ram:SpecifiedTradeSettlementHeaderMonetarySummation",
}
# term, name of the column, path in a UBL line, path in a CII line
_LINE: tuple[tuple[str, str, str, str], ...] = (
    ("BT-126", "Line", "cbc:ID", "ram:AssociatedDocumentLineDocument/ram:LineID"),
    ("BT-155", "Article", "cac:Item/cac:SellersItemIdentification/cbc:ID", "ram:SpecifiedTradeProduct/ram:SellerAssignedID"),
    ("BT-153", "Description", "cac:Item/cbc:Name", "ram:SpecifiedTradeProduct/ram:Name"),
    ("BT-129", "Quantity", "cbc:InvoicedQuantity|cbc:CreditedQuantity", "ram:SpecifiedLineTradeDelivery/ram:BilledQuantity"),
    (
        "BT-130",
        "Unit",
        "cbc:InvoicedQuantity/@unitCode|cbc:CreditedQuantity/@unitCode",
        "ram:SpecifiedLineTradeDelivery/ram:BilledQuantity/@unitCode",
    ),
    ("BT-146", "Unit price", "cac:Price/cbc:PriceAmount", "ram:SpecifiedLineTradeAgreement/ram:NetPriceProductTradePrice/ram:ChargeAmount"),
    (
        "BT-152",
        "VAT %",
        "cac:Item/cac:ClassifiedTaxCategory/cbc:Percent",
        "ram:SpecifiedLineTradeSettlement/ram:ApplicableTradeTax/ram:RateApplicablePercent",
    ),
    (
        "BT-131",
        "Amount",
        "cbc:LineExtensionAmount",
        "ram:SpecifiedLineTradeSettlement/ram:SpecifiedTradeSettlementLineMonetarySummation/ram:LineTotalAmount",
    ),
)


_KINDS = {"326": "invoice", "380": "invoice", "384": "invoice", "389": "invoice", "381": "credit note", "396": "credit note"}  # UNTDID 1001


@dataclass(frozen=True)
class EInvoice:
    """The business terms of an e-invoice as facts, and its lines as a table."""

    source: str  # "ubl" or "cii"
    facts: list[Fact]
    grids: list[Block]
    warnings: list[str] = field(default_factory=list)


def invoice_facts(root: etree._Element) -> EInvoice | None:
    """What an XML file says as an e-invoice; None when it is no e-invoice."""
    name = etree.QName(root)
    if name.localname in ("Invoice", "CreditNote") and (name.namespace or "").startswith("urn:oasis:names:specification:ubl:schema:xsd:"):
        return _read(root, "ubl", _UBL, "cac:InvoiceLine|cac:CreditNoteLine")
    if name.localname == "CrossIndustryInvoice" and name.namespace == _CII["rsm"]:
        return _read(root, "cii", _CII, "rsm:SupplyChainTradeTransaction/ram:IncludedSupplyChainTradeLineItem")
    return None


def line_facts(invoice: EInvoice) -> list[Fact]:
    """The lines as facts, for a document that shows them in its own table."""
    found = []
    for grid in invoice.grids:
        if isinstance(grid, Grid):
            for number, row in enumerate(grid.rows, 1):
                found += [
                    Fact(invoice.source, f"/line[{number}]/{name}", f"{name} (line {number})", text, term, row=number)
                    for (term, name, _, _), text in zip(_LINE, row, strict=True)
                    if text
                ]
    return found


def _read(root: etree._Element, source: str, spaces: dict[str, str], lines: str) -> EInvoice:
    facts = []
    for term, name, ubl, cii in _TERMS:
        path = ubl if source == "ubl" else _whole(cii)
        value, place = _found(root, path, spaces)
        if value:
            facts.append(Fact(source, place, name, _dated(value), term))
    facts += _breakdown(root, source, spaces)
    facts += _rest(root, source, {fact.value for fact in facts}, {each for line in _all(root, lines, spaces) for each in line.iter()})
    code = next((fact for fact in facts if fact.term == "BT-3"), None)
    if code and code.value in _KINDS:
        facts.insert(0, Fact(source, code.path, "Document type", _KINDS[code.value], "BT-3"))
    if not any(fact.term == "BT-27" for fact in facts):
        facts = [Fact(f.source, f.path, "Seller", f.value, "BT-27") if f.term == "BT-28" else f for f in facts]
    rows = []
    for element in _all(root, lines, spaces):
        rows.append(tuple(_found(element, ubl if source == "ubl" else cii, spaces)[0] for _, _, ubl, cii in _LINE))
    grid = Grid(tuple(name for _, name, _, _ in _LINE), tuple(rows))
    return EInvoice(source, facts, [grid] if rows else [], [] if facts else ["The e-invoice holds no business terms."])


_RATES = (
    ("cac:TaxTotal/cac:TaxSubtotal", "cac:TaxCategory/cbc:Percent", "cbc:TaxableAmount", "cbc:TaxAmount"),
    ("{S}/ram:ApplicableTradeTax", "ram:RateApplicablePercent", "ram:BasisAmount", "ram:CalculatedAmount"),
)


def _breakdown(root: etree._Element, source: str, spaces: dict[str, str]) -> list[Fact]:
    """What falls under each rate of tax (BG-23): its base and its tax, each named with the rate."""
    group, *paths = _RATES[source == "cii"]
    found = []
    for number, element in enumerate(_all(root, _whole(group), spaces), 1):
        rate, base, tax = (_found(element, path, spaces)[0] for path in paths)
        shown = rate.rstrip("0").rstrip(".") if "." in rate else rate
        place = f"/{_whole(group)}[{number}]"
        found += [Fact(source, f"{place}/{name}", f"{name} {shown} %", value) for name, value in (("Net", base), ("Tax", tax)) if value and shown]
        found += [Fact(source, f"{place}/rate", "Tax rate", rate)] if rate and number == 1 else []
    return found


MOST_REST = 120  # elements beside the business terms that are shown
_CODED = ("CustomizationID", "ProfileID", "UBLVersionID", "EmbeddedDocumentBinaryObject", "GuidelineSpecifiedDocumentContextParameter")


def _rest(root: etree._Element, source: str, shown: set[str], aside: set[etree._Element]) -> list[Fact]:
    """What the file says beside the terms above: a period, a trading name, what no list of ours foresees. Lines (`aside`) have their table."""
    found: list[Fact] = []
    for element in root.iter(etree.Element):
        text = clean(element.text or "")
        path = [etree.QName(each).localname for each in (*reversed(list(element.iterancestors())), element)]
        if not text or element in aside or len(element) or _dated(text) in shown or any(each in _CODED for each in path):
            continue
        name = " ".join(worded(each) for each in path[-2:]).capitalize()
        found.append(Fact(source, "/" + "/".join(path[1:]), name, _dated(text)))
    return found[:MOST_REST]


def _whole(path: str) -> str:
    for short, long in _SHORT.items():
        path = path.replace(short, long)
    return path


def _all(element: etree._Element, path: str, spaces: dict[str, str]) -> list[etree._Element]:
    found = element.xpath(path, namespaces=spaces)
    return [each for each in found if isinstance(each, etree._Element)] if isinstance(found, list) else []


def _found(element: etree._Element, paths: str, spaces: dict[str, str]) -> tuple[str, str]:
    """The text at the first of several paths that leads to one, and that path."""
    for path in paths.split("|"):
        found = element.xpath(path, namespaces=spaces)
        for each in found if isinstance(found, list) else ():
            text = clean(each if isinstance(each, str) else (each.text or "") if isinstance(each, etree._Element) else "")
            if text:
                return text, "/" + path.split("[")[0]
    return "", ""


def _dated(value: str) -> str:
    """A date of format 102 (CCYYMMDD) as it is written everywhere else."""
    return f"{value[:4]}-{value[4:6]}-{value[6:]}" if len(value) == 8 and value.isdecimal() and value[:2] in ("19", "20") else value
