"""What things are called in the trade, in ten languages: on papers, and in the names and descriptions of fields.

One table of concepts, each with the phrases for it, parted by |. Phrases are compared without case, accents and punctuation.
A field's concept is found from its name, title and description; so is that of a label in a document; where both have the same
one, the label is the field's. Where a phrase of two concepts fits, the longer one has it.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import lru_cache

from metrikon.core.values.number_words import plain

_TABLE = {
    # numbers of papers
    "number": "invoice number|invoice no|invoice nr|invoice|inv no|bill number|bill no|document number|document no|credit note no|credit note number|receipt number|receipt no|receipt|check number|check no|check|ticket number|ticket no|ticket|slip|docket|booking number|order confirmation"
    "|rechnungsnummer|rechnungs nr|rechnungsnr|rechnung nr|rechnung nummer|re nr|rechnung|belegnummer|beleg nr|bon nr|bonnummer|beleg|gutschrift nr|gutschriftsnummer|gutschrift|quittung nr|kassenbon"
    "|numero de facture|no de facture|no facture|facture no|n de facture|facture n|facture|ticket no|numero de ticket|no du ticket|recu no|avoir no|no avoir|bordereau"
    "|numero de factura|n de factura|factura n|factura no|factura|ticket n|n ticket|recibo n|localizador|localizer|billete|numero fattura|fattura n|fattura numero|fattura|scontrino|documento n|ricevuta n|n documento"
    "|factuurnummer|factuurnr|factuur nr|factuur|bonnummer|bonnr|kaart|kaartnummer|ticketnummer|numero da fatura|fatura n|fatura|recibo|fakturanummer|fakturanr|faktura nr|faktura|kvitteringsnr|kvitto|numer faktury|nr faktury|paragon",
    "order number": "order number|order no|order ref|purchase order|po number|p o number|p o|po|your order|your ref|your reference|customer order|reference|our ref|bestellnummer|bestell nr|bestellung|auftragsnummer|auftrags nr|auftrag|ihre bestellung|ihr zeichen|kommission|numero de commande|no de commande|n de commande|votre commande|commande|bon de commande|ref client|votre reference"
    "|numero de pedido|n de pedido|pedido|su pedido|referencia|numero ordine|ordine n|ordine|vostro ordine|riferimento|bestelnummer|ordernummer|uw bestelling|uw referentie|referentie|encomenda|ordrenummer|ordrenr|ordernr|er referens|zamowienie|nr zamowienia",
    "quote number": "quote|quotation|quote number|estimate|offer|angebot|angebotsnummer|devis|devis lie|devis accepte|no de devis|presupuesto|preventivo|offerte|offertenummer|orcamento|tilbud|offert|oferta",
    "delivery note": "delivery note|delivery note no|despatch note|packing slip|lieferschein|lieferschein nr|lieferscheinnummer|bon de livraison|bl n|albaran|albaran n|ddt|documento di trasporto|bolla|pakbon|pakbonnummer|guia de remessa|folgeseddel|foljesedel",
    "customer number": "customer number|customer no|customer id|account number|account no|client number|client no|client ref|member no|membership number|kundennummer|kunden nr|kdnr|kd nr|numero client|no client|n client|code client|numero de cliente|n cliente|cliente n|codice cliente|numero cliente|klantnummer|klantnr|debiteurnummer|kundenr|kundnr|kundnummer|nr klienta",
    "earlier invoice": "original invoice|related invoice|for invoice|ref invoice|credited invoice|to invoice|zu rechnung|zu unserer rechnung|ursprungsrechnung|bezugsrechnung|bezug auf rechnung|urspruengliche rechnung|facture d origine|facture initiale|sur facture|factura original|factura rectificada|rectifica a|fattura originale|oorspronkelijke factuur",
    # dates
    "date": "date|invoice date|date of issue|issue date|issued|issued on|dated|bill date|tax point|document date|visit date|date of visit|purchase date|transaction date|date of purchase|order date|sent on|rechnungsdatum|datum|ausstellungsdatum|ausgestellt am|belegdatum|rechnung vom|vom|bestelldatum|kaufdatum"
    "|date de facture|date de la facture|date d emission|emise le|emis le|date d achat|date de commande|fait le|le|fecha|fecha de factura|fecha de emision|fecha de expedicion|emitida el|expedido|data|data fattura|data emissione|data di emissione|emessa il|del|factuurdatum|datum factuur|gedateerd|data da fatura|data de emissao|dato|fakturadato|fakturadatum|datum|data wystawienia|wystawiono",
    "due date": "due date|last day for payment|last day to pay|to be paid until|pay until|payment deadline|letzter zahlungstag|letzter tag der zahlung|zahlungsziel bis|dernier jour de paiement|pagar antes de|ultimo giorno di pagamento|laatste betaaldag|sista betalningsdag|sidste betalingsdag|due|payment due|pay by|please pay by|due by|payable by|to be paid by|payment date|faelligkeitsdatum|faellig am|faellig|faelligkeit|zahlbar bis|zahlungsziel|zu zahlen bis|bis spaetestens|date d echeance|echeance|a regler avant|a regler avant le|a payer avant le|date limite de paiement|payable avant|payable le|vencimiento|fecha de vencimiento|vence|fecha limite de pago|scadenza|data scadenza|data di scadenza|da pagare entro|entro il|vervaldatum|vervaldag|te betalen voor|uiterste betaaldatum|betaaldatum|vencimento|data de vencimento|forfaldsdato|forfald|forfallodag|forfallodatum|termin platnosci",
    "service date": "date of service|service date|date of supply|date of work|work date|performed on|delivery date|delivered on|date of delivery|despatch date|leistungsdatum|leistungszeitraum|leistung vom|lieferdatum|liefertag|geliefert am|date de livraison|date de prestation|livraison|livraison voulue|livraison le|livree le|fecha de entrega|fecha de servicio|entrega|data consegna|data di consegna|data servizio|leverdatum|leveringsdatum|levering|data de entrega|leveringsdato|leveransdatum|data dostawy|data sprzedazy|data wykonania",
    "paid date": "paid on|date paid|payment received|received on|bezahlt am|zahlungseingang|paye le|acompte le|regle le|recu le|pagado el|pagato il|betaald op|pago em|betalt den|betald den|zaplacono",
    "valid until": "valid until|expires|expiry|offer ends|ends|until|good until|best before|valid to|gueltig bis|angebot bis|bis|valable jusqu au|expire le|fin|valido hasta|caduca|hasta|valido fino al|scade il|fino al|geldig tot|tot|valido ate|gyldig til|giltig till|wazny do",
    "valid from": "valid from|from|start|starts|begin|begins|since|gueltig ab|ab|beginn|valable a partir|a partir du|debut|valido desde|desde|inicio|valido dal|dal|inizio|geldig vanaf|vanaf|gyldig fra|fra|fran",
    "birthday": "date of birth|born|birth date|birthday|dob|geburtsdatum|geboren|geboren am|geb|date de naissance|ne le|nee le|naissance|fecha de nacimiento|nacido|nacida|nacimiento|data di nascita|nato il|nata il|nato a|nascita|geboortedatum|geboren op|data de nascimento|fodselsdato|fodt|fodelsedatum|fodd|data urodzenia",
    "updated": "last updated|updated|as of|page updated|stand|aktualisiert|letzte aktualisierung|zuletzt geaendert|mise a jour|mis a jour|derniere mise a jour|actualizado|ultima actualizacion|aggiornato|ultimo aggiornamento|bijgewerkt|laatst bijgewerkt|gewijzigd|atualizado|opdateret|uppdaterad|aktualizacja",
    # money
    "net": "net|net amount|net total|total net|subtotal|sub total|total before tax|before tax|excluding vat|excl vat|ex vat|total excluding vat|total ex vat|before vat|items before vat|goods total|total excl|taxable amount|taxable|food subtotal|nettobetrag|netto|summe netto|gesamt netto|zwischensumme|warenwert|nettosumme|total ht|montant ht|ht|hors taxes|hors taxe|total hors taxes|sous total|sous total ht|base ht|net ht|base imponible|base|subtotal|importe neto|total neto|suma neto|imponibile|totale imponibile|netto|totale netto|subtotale|subtotaal|totaal excl btw|excl btw|exclusief btw|netto bedrag|nettobedrag|valor liquido|subtotal|subtotal ex moms|uden moms|ekskl moms|exkl moms|delsumma|summa exkl moms|wartosc netto|razem netto",
    "tax": "vat|vat amount|vat total|vat sum|tax|tax amount|sales tax|tax total|gst|hst|mwst|mehrwertsteuer|ust|umsatzsteuer|steuer|steuerbetrag|mwst betrag|ust betrag|tva|montant tva|total tva|tva comprise|iva|importe iva|cuota iva|cuota|imposta|iva incl|di cui iva|btw|btw bedrag|btw totaal|omzetbelasting|waarvan btw|imposto|valor iva|moms|momsbelob|momsbelopp|varav moms|heraf moms|podatek vat|kwota vat|ptu",
    "tax rate": "vat rate|tax rate|rate of vat|vat pct|tax pct|vat percent|mwst satz|ust satz|steuersatz|taux tva|taux de tva|taux|tipo iva|tipo de iva|tipo|aliquota|aliquota iva|btw tarief|btw percentage|btw pct|taxa iva|momssats|momsprocent|stawka vat|stawka",
    "gross": "total|grand total|total amount|invoice total|total due|amount due|amount billed|total including vat|total incl vat|incl vat|including vat|total inc|gross|gross total|gross amount|total payable|to pay|amount|amount payable|check total|total to pay|sum|gesamtbetrag|gesamt|gesamtsumme|summe|endbetrag|rechnungsbetrag|brutto|bruttobetrag|gesamt brutto|total brutto|zu zahlen|zahlbetrag|gutschriftbetrag|betrag|zu zahlender betrag|total ttc|montant ttc|ttc|net a payer|a payer|somme ttc|montant total|toutes taxes comprises|total a payer|montant|total a pagar|importe total|importe|total factura|a pagar|total con iva|iva incluido|totale|totale fattura|totale documento|totale da pagare|importo totale|importo|totale complessivo|totaal|totaalbedrag|totaal incl btw|incl btw|inclusief btw|te betalen|te voldoen|totaal te betalen|eindbedrag|total com iva|valor total|total a pagar|i alt|total incl moms|at betale|summa|att betala|totalt|belopp|summa inkl moms|razem|suma|do zaplaty|razem brutto|wartosc brutto|kwota",
    "paid": "paid|amount paid|payment|deposit|deposit paid|already paid|cash|tendered|advance|down payment|prepaid|less deposit|betaald|bezahlt|anzahlung|gezahlt|gegeben|bar|bargeld|vorauszahlung|paye|acompte|acompte verse|acompte recu|deja regle|especes|recu|verse|regle|pagado|anticipo|senal|efectivo|entregado|a cuenta|pagato|acconto|contanti|contante|versato|voldaan|aanbetaling|contant|vooruitbetaald|pago|adiantamento|dinheiro|betalt|acontobelob|forskud|kontant|betald|forskott|zaplacono|zaliczka|gotowka",
    "balance": "balance|balance due|remaining|outstanding|balance to pay|still to pay|left to pay|restbetrag|rest|offener betrag|noch zu zahlen|saldo|solde|solde restant|solde a payer|reste a payer|reste du|pendiente|resto a pagar|liquido a percibir|restante|saldo da pagare|residuo|rimanenza|restbedrag|nog te betalen|openstaand|em divida|restbelob|restbelopp|kvar att betala|pozostalo",
    "discount": "discount|less discount|rebate|reduction|promo|promotion|savings|rabatt|nachlass|skonto|abzug|ermaessigung|remise|rabais|reduction|ristourne|escompte|descuento|dto|rebaja|bonificacion|sconto|ribasso|korting|winkelkorting|desconto|rabat|rabatt|upust",
    "shipping": "shipping|postage|delivery|delivery charge|delivery fee|carriage|freight|shipping cost|p p|packing|versand|versandkosten|lieferkosten|fracht|porto|anfahrt|lieferung|frais de port|port|livraison|frais de livraison|transport|gastos de envio|envio|portes|transporte|spese di spedizione|spedizione|trasporto|consegna|verzendkosten|bezorgkosten|bezorging|vracht|portes|fragt|levering|frakt|koszty wysylki|dostawa",
    "tip": "tip|gratuity|service charge|service|trinkgeld|pourboire|propina|mancia|fooi|gorjeta|drikkepenge|dricks|napiwek",
    "change": "change|change due|rueckgeld|zurueck|wechselgeld|rendu|monnaie|a rendre|cambio|vuelta|devuelta|resto|wisselgeld|terug|troco|byttepenge|retur|vaxel|tillbaka|reszta",
    "withholding": "withholding|withheld|retention|retencion|retencion irpf|irpf|ritenuta|ritenuta d acconto|quellensteuer|einbehalt|retenue|inhouding|retencao",
    "rounding": "rounding|rundung|arrondi|redondeo|arrotondamento|afronding|arredondamento|afrunding|oresavrundning|zaokraglenie",
    "currency": "currency|currency code|waehrung|waehrungskuerzel|devise|code devise|monnaie|moneda|divisa|valuta|moeda|valutakod|waluta|money code|coin",
    "exchange rate": "exchange rate|rate of exchange|fx rate|kurs|wechselkurs|umrechnungskurs|taux de change|cours|tipo de cambio|cambio|tasso di cambio|tasso|wisselkoers|koers|taxa de cambio|vekselkurs|vaxelkurs|kurs waluty",
    # rows
    "quantity": "quantity|qty|pieces|pcs|count|how many|units|ordered|number of pieces|quantity billed|menge|anzahl|stueck|stk|stueckzahl|quantite|qte|nb|nombre|combien|cantidad|cant|uds|unidades|quantita|qta|q ta|pezzi|numero pezzi|aantal|stuks|hoeveelheid|quantidade|qtd|antal|stk|antal|ilosc|szt",
    "unit": "unit|unit of measure|uom|einheit|me|unite|unidad|unita|u m|um|eenheid|unidade|enhed|enhet|jednostka|jm",
    "unit price": "unit price|price|price each|each|rate|cost each|per unit|price per unit|each price|price one|unit cost|einzelpreis|preis|stueckpreis|je stk|je stueck|e preis|ep|preis pro einheit|prix unitaire|pu|p u|pu ht|prix|tarif unitaire|prix unit|prix ht|prix ht unite|precio unitario|precio|p unit|precio unidad|precio uno|prezzo unitario|prezzo|p unit|prezzo un|prijs|stukprijs|eenheidsprijs|prijs per stuk|tarief|preco unitario|preco|stykpris|enhedspris|pris|a pris|apris|enhetspris|cena jednostkowa|cena|cena netto",
    "line amount": "line total|line charge|charge of the line|amount of the line|charge|amount|net|total|line amount|line net|row net|row total|extended price|extended|extension|line price|sum|value|betrag|gesamtpreis|gesamt|summe|zeilensumme|positionsbetrag|gp|total ligne|montant|montant ht|total ht|total|ligne ht|importe|total linea|importo|totale|totale riga|totale voce|tot voce|bedrag|totaal|regeltotaal|regelbedrag|valor|total|belob|i alt|belopp|summa|radsumma|wartosc|razem|kwota",
    "description": "description|item|items|details|product|article|goods|service|services|particulars|work carried out|part or labor|item description|entry|dish|name of item|line text|bezeichnung|beschreibung|artikel|leistung|position|artikelbezeichnung|ware|produkt|grund|text|designation|libelle|description|produit|article|prestation|ouvrage|descripcion|concepto|articulo|producto|trabajo|detalle|descrizione|articolo|prodotto|voce|prestazione|denominazione|omschrijving|product|artikel|wat|descricao|artigo|produto|beskrivelse|vare|beskrivning|benamning|vara|nazwa|opis|towar",
    "detail": "second line|specification|detail|remark|note|zusatz|zweite zeile|hinweis|bemerkung|precision|deuxieme ligne|conditionnement|observaciones|nota|note|dettaglio|opmerking|toelichting|observacao|bemaerkning|anmarkning|uwagi",
    "article number": "part number|part no|item no|item number|article number|article no|sku|code|product code|ref|stock code|artikelnummer|art nr|artikelnr|art no|best nr|materialnummer|reference|ref article|code article|referencia|codigo|ref|codice|codice articolo|cod|artikelnummer|artikelnr|art nr|referencia|codigo|varenummer|varenr|artikelnummer|art nr|indeks|kod",
    # parties and people
    "sender": "vendor|supplier|seller|from|issuer|biller|issued by|company|shop|store|merchant|business|from business|firm|eatery|restaurant|garage|dealer|issuer name|lieferant|verkaeufer|rechnungssteller|aussteller|absender|haendler|geschaeft|firma|von|laden|markt|betrieb|fournisseur|vendeur|emetteur|entreprise|raison sociale|magasin|commercant|etablissement|prestataire|proveedor|vendedor|emisor|tienda|comercio|establecimiento|empresa|fornitore|venditore|emittente|negozio|esercente|ditta|ragione sociale|leverancier|verkoper|afzender|winkel|bedrijf|handelaar|parkeergarage|fornecedor|vendedor|emitente|loja|leverandor|saelger|butik|forretning|leverantor|saljare|sprzedawca|dostawca|wystawca|sklep",
    "receiver": "customer|client|bill to|billed to|invoice to|sold to|buyer|to|customer name|client name|recipient|addressed to|kunde|kaeufer|empfaenger|rechnungsempfaenger|rechnung an|an|auftraggeber|leistungsempfaenger|client facture|facture a|adresse a|destinataire|acheteur|a l attention de|cliente|comprador|destinatario|para|facturar a|acquirente|committente|spett le|intestatario|klant|koper|afnemer|factuur aan|ontvanger|aan|comprador|kunde|kober|modtager|kund|kopare|mottagare|nabywca|odbiorca|klient",
    "care of": "c o|care of|mandataire|z hd|zu haenden|attn|attention|a l attention|a la atencion|alla cortese attenzione|t a v|ter attentie van|inhaber|inh|prop|proprietor|owner|inhaberin|gerant|titular|titolare",
    "person": "name|full name|who writes|personne qui ecrit|applicant|candidate|contact person|your name|caller name|customer full name|name of the applicant|nom|nom complet|nom et prenom|candidat|candidate|personne|nombre|nombre completo|nombre y apellidos|candidato|solicitante|nome|nome e cognome|nome completo|candidato|richiedente|naam|volledige naam|kandidaat|sollicitant|navn|fulde navn|ansoger|namn|sokande|imie i nazwisko|kandydat|bewerber|bewerberin|vorname nachname|ansprechpartner|person",
    "staff": "served by|server|cashier|waiter|operator|technician|clerk|your server|es bediente sie|bediener|bedient von|kassierer|kellner|kassier|bedienung|servi par|serveur|caissier|vendeur|hote|le atendio|atendido por|camarero|cajero|servito da|operatore|cameriere|cassiere|cassa|geholpen door|medewerker|kassamedewerker|ober|atendido por|betjent af|ekspedient|kassor|betjanad av|kasjer|obsluzyl",
    "address": "address|street address|street|postal address|home address|location|delivery address|ship to|anschrift|adresse|strasse|adresse postale|rue|adresse de livraison|domicile|direccion|domicilio|calle|indirizzo|via|domicilio|sede|adres|straat|woonadres|leveradres|afleveradres|morada|endereco|gade|vej|adress|gata|adres|ulica|lieferadresse|rechnungsadresse",
    "town": "town|city|place|village|place of residence|lives in|residence|ort|stadt|wohnort|ville|commune|lieu|localite|ciudad|poblacion|localidad|municipio|citta|localita|comune|luogo|plaats|woonplaats|stad|cidade|localidade|by|postort|ort|miasto|miejscowosc",
    "postcode": "postcode|postal code|zip|zip code|plz|postleitzahl|code postal|cp|codigo postal|cap|codice avviamento postale|codigo postal|postnummer|postnr|kod pocztowy",
    "country": "country|land|staat|pays|pais|paese|land|kraj",
    "phone": "phone|telephone|tel|phone number|telephone number|landline|call|ring|office tel|telefon|telefonnummer|fon|festnetz|rufnummer|sammelnummer|durchwahl|numero de telephone|telephone fixe|fixe|telefono|numero de telefono|fijo|telefono fisso|fisso|telefoon|telefoonnummer|vast nummer|telefone|telefonnummer|tlf|telefonnummer|numer telefonu|telefon",
    "mobile": "mobile|mobile number|cell|cell phone|cellphone|text message number|mob|handy|mobil|mobiltelefon|handynummer|mobilnummer|portable|mobile|telephone portable|gsm|movil|telefono movil|celular|cellulare|cell|mobiel|mobiel nummer|06|telemovel|mobiltelefon|mobilnummer|komorka|telefon komorkowy",
    "other phone": "other phone|second number|home phone|alternative number|private|privat|zweite nummer|weitere nummer|autre telephone|domicile|otro telefono|altro telefono|tweede nummer",
    "fax": "fax|fax number|telefax|faxnummer|faxnr|telecopie|numero de fax",
    "mail": "email|e mail|mail|mail address|email address|electronic mail|mailadresse|e mail adresse|courriel|adresse mail|mel|adresse electronique|correo|correo electronico|email|posta elettronica|indirizzo email|mailadres|e mailadres|emailadres|correio eletronico|epost|e post|mejl|poczta",
    "web": "website|web|web site|url|homepage|site|internet|webseite|webadresse|site web|sitio web|pagina web|web|sito|sito web|website|hjemmeside|hemsida|webbplats|strona",
    "tax id": "vat number|vat no|vat id|vat reg|vat reg no|vat registration|vat registration number|tax id|tax number|company number|registration number|ust id|ust idnr|ustid|uid|umsatzsteuer id|steuernummer|steuer nr|numero tva|no tva|n tva|tva intracommunautaire|tva intracom|siret|siren|entreprise no tva|nif|cif|nif cif|dni|numero de iva|partita iva|p iva|p i|codice fiscale|iva n|btw nummer|btw nr|btw id|kvk|kvk nummer|numero de contribuinte|contribuinte|nif|cvr|cvr nr|momsnr|se nr|org nr|organisationsnummer|momsregistreringsnummer|vat nr|nip|regon",
    "iban": "iban|account|bank account|bankverbindung|konto|compte|rib|cuenta|cuenta bancaria|conto|coordinate bancarie|rekening|rekeningnummer|bankrekening|conta|kontonummer|bankkonto|konto|numer konta|nr konta",
    "bic": "bic|swift|swift code|bic swift",
    # paying
    "payment method": "payment method|paid by|method of payment|tender|payment type|paid with|zahlungsart|bezahlt mit|zahlungsweise|zahlung|mode de paiement|moyen de paiement|paiement|reglement|forma de pago|medio de pago|pago|metodo di pagamento|pagamento|modalita di pagamento|betaalwijze|betaalmethode|betaling|forma de pagamento|betalingsmade|betaling|betalningssatt|betalning|forma platnosci|platnosc",
    "payment terms": "payment terms|terms|terms of payment|days to pay|zahlungsbedingungen|zahlungsfrist|conditions de paiement|conditions|delai de paiement|condiciones de pago|plazo|dias de pago|termini di pagamento|condizioni di pagamento|betalingstermijn|betalingsvoorwaarden|condicoes de pagamento|betalingsbetingelser|betalningsvillkor|warunki platnosci",
    "card": "card number|card|card ending|last four|card digits|kartennummer|karte|kartenendziffern|letzte vier|carte|numero de carte|derniers chiffres|tarjeta|numero de tarjeta|carta|numero carta|pan|kaartnummer|pas|pasnummer|cartao|kortnummer|kort|karta|numer karty",
    # times, places, things
    "time": "time|time of day|at|closed at|hour|uhrzeit|zeit|heure|hora|ora|orario|tijd|tijdstip|tidspunkt|kl|tid|godzina",
    "opening": "opening hours|open|opens|hours|business hours|office hours|gates open|oeffnungszeiten|geoeffnet|sprechzeit|sprechzeiten|horaires|horaires d ouverture|ouvert|ouverture|horario|horario de apertura|abierto|orari|orari di apertura|orario|aperto|openingstijden|geopend|open|horario|aberto|abningstider|aben|oppettider|oppet|godziny otwarcia",
    "closing": "closes|closing time|closed|gates close|schliesst|geschlossen|fermeture|ferme|cierre|cerrado|chiusura|chiuso|gesloten|sluit|fecho|lukket|lukker|stangt|stanger|zamkniete",
    "duration": "duration|length|length of stay|parking time|minutes|dauer|parkdauer|laenge|duree|temps|duracion|durata|sosta|duur|parkeerduur|duracao|varighed|langd|czas trwania",
    "entry": "entry|in|arrival|arrived|check in|einfahrt|ankunft|anreise|entree|arrivee|entrada|llegada|ida|entrata|ingresso|arrivo|andata|inrit|ingereden|aankomst|entrada|indkorsel|ankomst|infart|wjazd",
    "exit": "exit|out|departure|left|check out|ausfahrt|abreise|abfahrt|sortie|depart|salida|partida|vuelta|uscita|partenza|ritorno|uitrit|uitgereden|uit|vertrek|saida|udkorsel|afgang|utfart|wyjazd",
    "table": "table|table no|tisch|tisch nr|table no|mesa|tavolo|tafel|bord|stolik",
    "guests": "guests|covers|persons|people|number of guests|gaeste|personen|couverts|personnes|convives|comensales|personas|coperti|ospiti|persone|gasten|personen|pessoas|gaester|personer|gaster|osob",
    "register": "register|till|terminal|pos|machine|kasse|kassen nr|automat|caisse|borne|caja|cajero|cassa|kassa|automaat|caixa|kasse|automat|kassa|kasa",
    "licence plate": "licence plate|number plate|license plate|plate|registration|vehicle|kennzeichen|immatriculation|plaque|matricula|targa|kenteken|matricula|nummerplade|registreringsnummer|rejestracja",
    "quantity of fuel": "litres|liters|volume|liter|menge liter|volume litres|quantite litres|litros|litri|liter|litry",
    "seat": "seat|seats|platz|sitzplatz|siege|place|asiento|asientos|posto|posti|stoel|plaats|lugar|saede|sittplats|miejsce",
    "class": "class|klasse|classe|clase|classe|klasse|classe|klasse|klass|klasa",
    "project": "project|site|job|work site|regarding|re|subject|concerning|bauvorhaben|projekt|objekt|betreff|betrifft|chantier|objet|projet|obra|proyecto|asunto|oggetto|cantiere|progetto|betreft|onderwerp|project|assunto|emne|vedrorende|arende|dotyczy",
    "summary": "summary|gist|synopsis|zusammenfassung|resume|resumen|riassunto|samenvatting|resumo|sammenfatning|sammanfattning|podsumowanie",
    # applications
    "work": "work experience|work|jobs|employment|employment history|experience|career|professional experience|career history|positions|berufserfahrung|berufsweg|beruflicher werdegang|werdegang|beruf|berufspraxis|taetigkeiten|stationen|experience professionnelle|experiences|experiences professionnelles|parcours|parcours professionnel|emplois|postes|experiencia|experiencia profesional|experiencia laboral|trabajos|empleos|esperienza|esperienze|esperienze professionali|esperienza lavorativa|lavori|werkervaring|loopbaan|banen|ervaring|experiencia profissional|erhvervserfaring|erfaring|arbejde|arbetslivserfarenhet|erfarenhet|anstallningar|doswiadczenie|doswiadczenie zawodowe|praca",
    "education": "education|schooling|studies|qualifications|training|education and training|academic background|degrees|ausbildung|bildung|studium|schulbildung|bildungsweg|aus und weiterbildung|schule|formation|formations|etudes|diplomes|scolarite|formacion|educacion|estudios|formacion academica|istruzione|formazione|studi|istruzione e formazione|titoli|opleiding|opleidingen|onderwijs|studie|educacao|formacao|habilitacoes|uddannelse|utbildning|wyksztalcenie|edukacja",
    "skills": "skills|abilities|key skills|competences|competencies|expertise|strengths|technical skills|kenntnisse|faehigkeiten|koennen|kompetenzen|staerken|fachkenntnisse|competences|savoir faire|aptitudes|atouts|habilidades|competencias|conocimientos|aptitudes|destrezas|competenze|capacita|abilita|conoscenze|vaardigheden|competenties|kennis|competencias|habilidades|faerdigheder|kompetencer|kompetenser|fardigheter|kunskaper|umiejetnosci",
    "languages": "languages|tongues|language skills|sprachen|sprachkenntnisse|langues|langues parlees|idiomas|lenguas|lingue|lingue conosciute|talen|talenkennis|taalvaardigheid|idiomas|linguas|sprog|sprak|sprakkunskaper|jezyki|jezyki obce",
    "voluntary": "voluntary|volunteering|voluntary work|ehrenamt|ehrenamtlich|benevolat|voluntariado|volontariato|vrijwilligerswerk|frivilligt|ideellt|wolontariat|awards|hobbies|interests|interessen|loisirs|centres d interet|intereses|interessi|hobby s|referees|referee|references|reference|referenzen|referenties|referencias|referenze|profile|profil|perfil|profilo|profiel|other|sonstiges|divers|otros|altro|overig|personal|persoenlich|persoenliches|contact|kontakt|contacto|contatti|tickets and licences|certificates|zertifikate|certifications|certificados|certificaten",
    "break": "career break|parental leave|maternity leave|sabbatical|between jobs|gap year|unemployed|travelling|elternzeit|auszeit|sabbatjahr|arbeitssuchend|arbeitslos|mutterschutz|familienzeit|conge parental|pause carriere|recherche d emploi|annee sabbatique|chomage|baja maternal|excedencia|desempleo|ano sabatico|congedo|pausa|disoccupazione|maternita|ouderschapsverlof|loopbaanonderbreking|werkloos|sabbatical|licenca parental|desemprego|barsel|orlov|foraldraledig|tjanstledig|urlop wychowawczy|przerwa",
    "job title": "job title|position|title|role|post|occupation|stelle|position als|berufsbezeichnung|taetigkeit|funktion|poste|intitule du poste|fonction|metier|puesto|cargo|posicion|ruolo|mansione|posizione|qualifica|functie|functietitel|beroep|cargo|funcao|stilling|befattning|titel|stanowisko",
    "employer": "employer|company|firm|organisation|organization|arbeitgeber|betrieb|firma|unternehmen|employeur|entreprise|societe|empresa|empleador|azienda|datore di lavoro|societa|werkgever|bedrijf|empregador|arbejdsgiver|virksomhed|arbetsgivare|foretag|pracodawca|firma",
    "degree": "degree|qualification|certificate|diploma|course|subject|abschluss|qualifikation|studiengang|zeugnis|diplome|titre|diplome obtenu|titulo|titulacion|grado|titolo|titolo di studio|diploma|diploma|kwalificatie|studierichting|grau|diploma|eksamen|grad|examen|dyplom|kierunek",
    "school": "school|university|college|institution|training firm|place of study|hochschule|universitaet|schule|ausbildungsbetrieb|ecole|etablissement|universite|lycee|escuela|universidad|centro|instituto|scuola|universita|istituto|school|universiteit|hogeschool|instelling|escola|universidade|skole|universitet|skola|szkola|uczelnia",
    "finished": "year finished|finished|year of graduation|graduated|completed|year|jahr|abschlussjahr|annee|annee d obtention|obtenu en|ano|ano de finalizacion|anno|anno di conseguimento|jaar|afgerond|ano|ar|rok|rok ukonczenia",
    "begin": "from|begin|start|from month|since|beginning|von|beginn|ab|seit|anfang|du|debut|depuis|desde|inicio|comienzo|da|dal|inizio|van|vanaf|begin|sinds|de|fra|start|fran|borjan|od|poczatek",
    "end": "to|until|end|to month|till|bis|ende|au|jusqu a|fin|hasta|fin|a|al|fine|tot|einde|tot en met|ate|fim|til|slut|till|do|koniec",
    "language": "language|tongue|sprache|langue|idioma|lengua|lingua|taal|sprog|sprak|jezyk",
    "level": "level|proficiency|how well|fluency|niveau|stufe|kenntnisstand|nivel|livello|beheersing|nivel|niva|poziom",
    "driving licence": "driving licence|driver s license|driving license|licence category|fuehrerschein|fuehrerscheinklasse|permis|permis de conduire|carnet de conducir|permiso de conducir|patente|patente di guida|rijbewijs|carta de conducao|korekort|korkort|prawo jazdy",
    "notice period": "notice period|notice|available from|availability|kuendigungsfrist|verfuegbar ab|eintrittstermin|preavis|disponibilite|disponible a partir|preaviso|disponibilidad|preavviso|disponibilita|opzegtermijn|beschikbaar|beschikbaarheid|aviso previo|opsigelsesvarsel|uppsagningstid|okres wypowiedzenia",
    "nationality": "nationality|citizenship|staatsangehoerigkeit|nationalitaet|nationalite|nacionalidad|nazionalita|cittadinanza|nationaliteit|nacionalidade|nationalitet|narodowosc|obywatelstwo",
    "salary": "salary|salary expectation|expected salary|pay|day rate|gehalt|gehaltsvorstellung|gehaltswunsch|salaire|pretentions|pretentions salariales|salario|pretensiones|stipendio|retribuzione|salaris|salarisindicatie|loon|salario pretendido|lon|wynagrodzenie",
    # pages
    "page title": "title|headline|heading|page title|event|event name|titel|ueberschrift|veranstaltung|titre|evenement|titulo|evento|titolo|spettacolo|titel|evenement|kop",
    "author": "author|by|written by|autor|verfasser|von|auteur|par|autor|autora|autore|auteur|door|forfatter|forfattare",
    "price": "price|cost|fee|entry fee|admission|ticket price|charge|tarif|preis|eintritt|gebuehr|kosten|prix|entree|tarif|cout|precio|entrada|tarifa|coste|prezzo|ingresso|biglietto|costo|tariffa|prijs|toegang|entree|kosten|tarief|preco|bilhete|pris|entre|cena|bilet",
}  # fmt: skip


@dataclass(frozen=True)
class Phrase:
    """A phrase for a concept, as folded words."""

    words: tuple[str, ...]
    concept: str


_GERMAN = str.maketrans({"ä": "ae", "ö": "oe", "ü": "ue", "ß": "ss"})
_SPLIT = re.compile(r"[^\W_]+")


@lru_cache(maxsize=16384)
def words_of(text: str) -> tuple[str, ...]:
    """The folded words of a text; letters with dots as two letters, as the table has them; "n°" and "no." are one."""
    low = re.sub(r"\b(?:n[o°ºr]\.?°?|№|#)(?=\W|$)", " no ", text.lower().translate(_GERMAN))
    return tuple(plain(word) for word in _SPLIT.findall(low))


def _phrases() -> dict[str, list[Phrase]]:
    found: dict[str, list[Phrase]] = {}
    for concept, phrases in _TABLE.items():
        for phrase in dict.fromkeys(phrases.split("|")):
            words = words_of(phrase)
            if words:
                found.setdefault(words[0], []).append(Phrase(words, concept))
    return found


_BY_FIRST = _phrases()


@lru_cache(maxsize=16384)
def concepts_in(text: str) -> tuple[tuple[str, int, int], ...]:
    """(concept, first word, number of words) of every phrase in a text that is in no longer one, in the order of the text."""
    words = words_of(text)
    found: list[tuple[str, int, int]] = []
    for at, word in enumerate(words):
        for phrase in _BY_FIRST.get(word, ()):
            if words[at : at + len(phrase.words)] == phrase.words:
                found.append((phrase.concept, at, len(phrase.words)))
    return tuple(
        each for each in found if not any(o is not each and o[1] <= each[1] and o[1] + o[2] >= each[1] + each[2] and o[2] > each[2] for o in found)
    )


def concepts() -> tuple[str, ...]:
    """All concepts."""
    return tuple(_TABLE)
