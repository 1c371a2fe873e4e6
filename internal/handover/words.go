package handover

import "strings"

// words are all that documents say, in English and in Norwegian (bokmål), by the English ones.
var words = map[string]string{
	"Register": "Register", "Differences": "Avvik", "Checks": "Kontroller", "About": "Om",
	"Tag": "Betegnelse", "Kind": "Type", "Area": "Område", "Floor": "Etasje", "Place": "Sted", "Model": "Modell",
	"Serial": "Serienummer", "MAC": "MAC-adresse", "Address": "Adresse", "Device name": "Enhetsnavn",
	"Firmware": "Fastvare", "Subnet": "Subnett", "VLAN": "VLAN", "Switch port": "Svitsjport", "Seen behind switch port": "Sett bak svitsjport", "switch port: seen behind": "svitsjport: sett bak", "Behind": "Bak",
	"Part": "Del", "Licence": "Lisens", "State": "Status", "Last check": "Siste kontroll", "Not verified": "Ikke bekreftet",
	"Description": "Beskrivelse", "Note": "Merknad", "Mask": "Maske", "Gateway": "Ruter",
	"Check": "Kontroll", "Expected": "Forventet", "Observed": "Observert", "Result": "Resultat", "Rests on": "Bygger på",
	"At": "Tidspunkt", "What differs": "Hva som avviker",
	"planned": "planlagt", "matched": "tilordnet", "configuring": "under oppsett", "configured": "konfigurert",
	"verified": "bekreftet", "needs attention": "krever tilsyn", "not wired yet": "ikke tilkoblet ennå",
	"passed": "bestått", "failed": "ikke bestått", "not looked at": "ikke undersøkt", "said": "oppgitt",
	"made": "laget", "as planned": "som planlagt", "entries": "oppføringer",
	"Grey and slanted: as planned, and not verified.":                           "Grått og kursivt: som planlagt, og ikke bekreftet.",
	"Everything else was verified, when and by what is in the sheet of checks.": "Alt annet er bekreftet; når og hvordan står i arket med kontroller.",
	"Handover report": "Overleveringsrapport", "Commissioning sheet": "Idriftsettingsskjema", "as of": "per",
	"Summary": "Sammendrag", "not verified": "ikke bekreftet", "Number": "Antall", "Subnets": "Subnett", "DNS": "DNS",
	"NTP": "NTP", "Domain": "Domene", "Black: verified. Grey: planned. G: gateway. Crossed: kept free. White: free.": "Svart: bekreftet. Grått: planlagt. G: ruter. Krysset: holdes ledig. Hvitt: ledig.",
	"A star stands before what was not verified.": "En stjerne står foran det som ikke er bekreftet.",
	"Without an area": "Uten område", "Not verified, and why": "Ikke bekreftet, og hvorfor", "Why": "Hvorfor",
	"Everything was verified.": "Alt er bekreftet.", "Findings, and what was done about them": "Funn, og hva som ble gjort med dem", "Stand open": "Åpne",
	"Went away": "Borte", "was there no more": "var borte", "Earlier ones that are not listed": "Tidligere, ikke vist",
	"What was done": "Hva som ble gjort", "Since": "Siden", "None.": "Ingen.",
	"Level": "Nivå", "Of": "Gjelder", "Finding": "Funn", "It was never looked at.": "Den er aldri undersøkt.",
	"Checks per device": "Kontroller per enhet", "Who did what": "Hvem gjorde hva", "Who": "Hvem", "What": "Hva",
	"and never looked at": "og aldri undersøkt", "stops": "stopper", "warning": "advarsel", "hint": "hint", "segment": "segment",
	"The plan has nothing that is wired.": "Planen har ingenting som er tilkoblet.",
	"kept free":                           "holdes ledig", "Documents": "Dokumenter", "What is missing": "Hva som mangler",
	"What was handed over, as of": "Hva som ble overlevert, per", "Each document says of every value whether it was verified.": "Hvert dokument sier om hver verdi er bekreftet.", "entries were verified": "oppføringer er bekreftet", "of": "av",
	"are not wired yet": "er ikke tilkoblet ennå", "Nothing: everything that is wired was verified.": "Ingenting: alt som er tilkoblet, er bekreftet.",
	"Passwords are not in here: they are handed over by themselves, sealed.":                                                                   "Passord er ikke med: de overleveres for seg, forseglet.",
	"Report for people, as PDF: summary, subnets, register, what is not verified, findings and what was done about them, checks, who did what": "Rapport for folk, som PDF: sammendrag, subnett, register, hva som ikke er bekreftet, funn og hva som ble gjort med dem, kontroller, hvem gjorde hva",
	"Register of all entries, as a workbook, with a sheet for each subnet, for what differs and for every check":                               "Register over alle oppføringer som arbeidsbok, med et ark for hvert subnett, for avvik og for hver kontroll",
	"Register of all entries, as CSV":                                      "Register over alle oppføringer, som CSV",
	"Register of all entries, as JSON, with what each value rests on":      "Register over alle oppføringer, som JSON, med hva hver verdi bygger på",
	"Hosts file: address and name of every entry that has both":            "Vertsfil: adresse og navn på hver oppføring som har begge",
	"DNS zones, forward and reverse, a file each (RFC 1035)":               "DNS-soner, forover og bakover, én fil hver (RFC 1035)",
	"DHCP reservations for dnsmasq":                                        "DHCP-reservasjoner for dnsmasq",
	"DHCP reservations for Kea, with their subnets":                        "DHCP-reservasjoner for Kea, med subnettene",
	"Every address of each subnet that is taken or kept free, as CSV":      "Hver adresse i hvert subnett som er i bruk eller holdes ledig, som CSV",
	"JSON Schema of the inventory":                                         "JSON-skjema for inventarlisten",
	"Inventory in plain JSON, of the form that inventory-schema describes": "Inventarliste i enkel JSON, slik inventory-schema beskriver den",
	"Logins": "Innlogginger", "For": "Til", "User": "Bruker", "Password": "Passord", "accepted": "godtatt", "pending": "ikke prøvd",
	"refused": "avvist", "superseded": "erstattet",
	"Keep this sheet locked away; whoever has it opens these devices.":                                   "Oppbevar arket innelåst; den som har det, åpner disse enhetene.",
	"Plan as another Redstart takes it in, without secrets: each entry with the MAC of its box":          "Planen slik en annen Redstart tar den inn, uten hemmeligheter: hver oppføring med enhetens MAC-adresse",
	"The record is signed with the key":                                                                  "Journalen er signert med nøkkelen",
	"Every run, step and check as JSON lines, chained and signed: redstart handover check verifies them": "Hver kjøring, hvert trinn og hver kontroll som JSON-linjer, kjedet og signert: redstart handover check bekrefter dem",
	"Targets for Prometheus (file_sd), with tag, kind and place as labels":                               "Mål for Prometheus (file_sd), med betegnelse, type og sted som merkelapper",
}

// say gives a word in the language of the site.
func (r Record) say(english string) string {
	if r.norwegian() {
		if word, known := words[english]; known {
			return word
		}
	}
	return english
}

func (r Record) norwegian() bool {
	lang, _, _ := strings.Cut(strings.ToLower(r.Site.Language), "-")
	return lang == "nb" || lang == "no"
}
