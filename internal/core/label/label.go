// Package label reads what is printed on a device's label, as a scanner gives
// it: a MAC in any usual spelling, a serial, a mixture of keys and values, a web
// address that holds them, or the device identification code that the LoRa
// Alliance's TR005 defines.
package label

import (
	"encoding/hex"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"redstart/internal/core/address"
)

// maxText bounds what is read, in bytes; the largest QR code holds less.
const maxText = 4296

// Label is what a text says. All parts may be empty.
type Label struct {
	MACs    []address.MAC `json:"macs,omitempty"`
	Serials []string      `json:"serials,omitempty"`
	Models  []string      `json:"models,omitempty"`
	LoRaWAN *LoRaWAN      `json:"lorawan,omitempty"`
	// Whole is the text itself, cleaned, when it is one word: it may be a serial
	// or a tag.
	Whole string `json:"whole,omitempty"`
}

// LoRaWAN is the content of a device identification code (LoRa Alliance, TR005,
// LoRaWAN Device Identification QR Codes, 3).
type LoRaWAN struct {
	JoinEUI, DevEUI string // sixteen hexadecimal digits
	Vendor, Profile string // four each
	Serial          string // extension S
	Token           string `json:"-"` // extension O: proves ownership, and is nobody else's business
	// Key is the key by which it joins, where the maker's own extension P holds one: K and 32
	// hexadecimal digits. It is secret.
	Key string `json:"-"`
	// Torn says that the text does not fit its checksum (extension C).
	Torn bool `json:"torn,omitempty"`
}

// Checksum is that of a device identification code up to its extension C: CRC-16 as in
// Modbus (polynomial 0x8005, reflected, begun with 0xFFFF; LoRa Alliance TR005, 3).
func Checksum(text string) uint16 {
	crc := uint16(0xffff)
	for _, b := range []byte(text) {
		crc ^= uint16(b)
		for range 8 {
			if crc&1 == 1 {
				crc = crc>>1 ^ 0xa001
			} else {
				crc >>= 1
			}
		}
	}
	return crc
}

// Empty reports whether nothing was understood.
func (l Label) Empty() bool {
	return l.MACs == nil && l.Serials == nil && l.Whole == ""
}

var (
	pairs    = regexp.MustCompile(`\b[0-9A-Fa-f]{2}(?:[:\-. ][0-9A-Fa-f]{2}){5}\b`)
	quads    = regexp.MustCompile(`\b[0-9A-Fa-f]{4}[.:\-][0-9A-Fa-f]{4}[.:\-][0-9A-Fa-f]{4}\b`)
	halves   = regexp.MustCompile(`\b[0-9A-Fa-f]{6}[\-:][0-9A-Fa-f]{6}\b`)
	bare     = regexp.MustCompile(`\b[0-9A-Fa-f]{12}\b`)
	keyed    = regexp.MustCompile(`(?i)(?:^|[\s;,|&?{"(])\s*"?([a-z][a-z /._]{0,14}?)"?\s*(?:[:=#]|\s#)\s*"?([^\s;,|&"}\)]+)`)
	loraForm = regexp.MustCompile(`^LW:D0:([0-9A-Fa-f]{16}):([0-9A-Fa-f]{16}):([0-9A-Fa-f]{8})((?::[A-Z][^:]*)*)$`)
	keyForm  = regexp.MustCompile(`^PK[0-9A-Fa-f]{32}$`)
	word     = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._/\-]{2,63}$`)
)

var (
	serialKeys = []string{"sn", "s/n", "ser", "serial", "serialno", "serialnumber", "serialnr"}
	macKeys    = []string{"mac", "macaddress", "macid", "eth", "ethernet", "lan", "wlan"}
	modelKeys  = []string{"model", "type", "pn", "p/n", "part", "product"}
)

// Parse reads the text of a label.
func Parse(text string) Label {
	if len(text) > maxText {
		text = text[:maxText]
	}
	text = strings.TrimSpace(strings.ToValidUTF8(text, ""))
	var l Label
	if m := loraForm.FindStringSubmatch(text); m != nil {
		return lora(text, m)
	}
	if u, err := url.Parse(text); err == nil && (u.Scheme == "http" || u.Scheme == "https") {
		q, _ := url.QueryUnescape(u.RawQuery) // what cannot be unescaped holds no label
		text = "?" + q + " " + strings.ReplaceAll(u.Path, "/", " ")
	}
	for _, m := range keyed.FindAllStringSubmatch(text, -1) {
		key := strings.ToLower(strings.Join(strings.FieldsFunc(m[1], func(r rune) bool {
			return r == ' ' || r == '.' || r == '_'
		}), ""))
		switch {
		case slices.Contains(serialKeys, key):
			l.addSerial(m[2])
		case slices.Contains(macKeys, key):
			l.addMAC(m[2])
		case slices.Contains(modelKeys, key):
			l.Models = append(l.Models, m[2])
		}
	}
	for _, form := range []*regexp.Regexp{pairs, quads, halves, bare} {
		for _, m := range form.FindAllString(text, -1) {
			if !slices.Contains(l.Serials, m) {
				l.addMAC(m)
			}
		}
	}
	if word.MatchString(text) && l.MACs == nil {
		l.Whole = text
	}
	return l
}

func (l *Label) addMAC(s string) {
	m, err := address.ParseMAC(strings.TrimRight(s, "."))
	if err == nil && !m.IsZero() && !slices.Contains(l.MACs, m) {
		l.MACs = append(l.MACs, m)
	}
}

func (l *Label) addSerial(s string) {
	if s != "" && !slices.Contains(l.Serials, s) {
		l.Serials = append(l.Serials, s)
	}
}

// lora reads the parts of a device identification code. A DevEUI made from a
// MAC (RFC 4291, Appendix A, without the flipped bit) gives the MAC back.
func lora(text string, m []string) Label {
	d := &LoRaWAN{JoinEUI: strings.ToUpper(m[1]), DevEUI: strings.ToUpper(m[2]), Vendor: strings.ToUpper(m[3][:4]),
		Profile: strings.ToUpper(m[3][4:])}
	l := Label{LoRaWAN: d}
	for _, extension := range strings.Split(strings.TrimPrefix(m[4], ":"), ":") {
		switch {
		case strings.HasPrefix(extension, "S"):
			d.Serial = extension[1:]
		case strings.HasPrefix(extension, "O"):
			d.Token = extension[1:]
		case keyForm.MatchString(extension):
			d.Key = strings.ToUpper(extension[2:])
		case strings.HasPrefix(extension, "C"):
			sum, err := strconv.ParseUint(extension[1:], 16, 16)
			before, _, _ := strings.Cut(text, ":"+extension)
			d.Torn = err != nil || uint16(sum) != Checksum(before)
		}
	}
	l.addSerial(d.Serial)
	l.addSerial(d.DevEUI)
	if b, err := hex.DecodeString(d.DevEUI); err == nil && b[3] == 0xff && b[4] == 0xfe {
		l.addMAC(hex.EncodeToString(append(b[:3:3], b[5:]...)))
	}
	return l
}
