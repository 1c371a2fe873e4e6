package handover

import "strings"

// words are all that documents say, in English and in Norwegian (bokmål), by the English ones.
var words = map[string]string{
	"Register": "Register", "Differences": "Avvik", "Checks": "Kontroller", "About": "Om",
	"Tag": "Betegnelse", "Kind": "Type", "Area": "Område", "Floor": "Etasje", "Place": "Sted", "Model": "Modell",
	"Serial": "Serienummer", "MAC": "MAC-adresse", "Address": "Adresse", "Device name": "Enhetsnavn",
	"Firmware": "Fastvare", "Subnet": "Subnett", "VLAN": "VLAN", "Switch port": "Svitsjport", "Behind": "Bak",
	"Part": "Del", "Licence": "Lisens", "State": "Status", "Last check": "Siste kontroll", "Not verified": "Ikke bekreftet",
	"Description": "Beskrivelse", "Note": "Merknad", "Mask": "Maske", "Gateway": "Ruter",
	"Check": "Kontroll", "Expected": "Forventet", "Observed": "Observert", "Result": "Resultat", "Rests on": "Bygger på",
	"At": "Tidspunkt", "What differs": "Hva som avviker",
	"planned": "planlagt", "matched": "tilordnet", "configuring": "under oppsett", "configured": "konfigurert",
	"verified": "bekreftet", "needs attention": "krever tilsyn", "not wired yet": "ikke tilkoblet ennå",
	"passed": "bestått", "failed": "ikke bestått", "not looked at": "ikke undersøkt",
	"made": "laget", "as planned": "som planlagt", "entries": "oppføringer",
	"Grey and slanted: as planned, and not verified.":                           "Grått og kursivt: som planlagt, og ikke bekreftet.",
	"Everything else was verified, when and by what is in the sheet of checks.": "Alt annet er bekreftet; når og hvordan står i arket med kontroller.",
	"Handover report": "Overleveringsrapport", "Commissioning sheet": "Idriftsettingsskjema", "as of": "per",
	"Summary": "Sammendrag", "not verified": "ikke bekreftet", "Number": "Antall", "Subnets": "Subnett", "DNS": "DNS",
	"NTP": "NTP", "Domain": "Domene", "Black: verified. Grey: planned. G: gateway. Crossed: kept free. White: free.": "Svart: bekreftet. Grått: planlagt. G: ruter. Krysset: holdes ledig. Hvitt: ledig.",
	"A star stands before what was not verified.": "En stjerne står foran det som ikke er bekreftet.",
	"Without an area": "Uten område", "Not verified, and why": "Ikke bekreftet, og hvorfor", "Why": "Hvorfor",
	"Everything was verified.": "Alt er bekreftet.", "Findings that stand open": "Åpne funn", "None.": "Ingen.",
	"Level": "Nivå", "Of": "Gjelder", "Finding": "Funn", "It was never looked at.": "Den er aldri undersøkt.",
	"Checks per device": "Kontroller per enhet", "Who did what": "Hvem gjorde hva", "Who": "Hvem", "What": "Hva",
	"and never looked at": "og aldri undersøkt", "stops": "stopper", "warning": "advarsel", "hint": "hint", "segment": "segment",
	"kept free": "holdes ledig",
}

// say gives a word in the language of the site.
func (r Record) say(english string) string {
	if lang, _, _ := strings.Cut(r.Site.Language, "-"); lang == "nb" || lang == "no" {
		if word, known := words[english]; known {
			return word
		}
	}
	return english
}
