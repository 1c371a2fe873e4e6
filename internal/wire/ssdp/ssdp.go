// Package ssdp encodes and decodes the discovery messages of the UPnP Device
// Architecture 2.0, clause 1.
package ssdp

import (
	"bufio"
	"bytes"
	"errors"
	"net/http"
	"net/netip"
	"strings"
)

// Group is where everybody listens.
var Group = netip.MustParseAddrPort("239.255.255.250:1900")

// maxSize bounds a message, in bytes.
const maxSize = 2048

// ErrMalformed says that the bytes are no SSDP message.
var ErrMalformed = errors.New("ssdp: not a message")

// Search asks every root device to answer within a second (1.3.2).
func Search() []byte {
	return []byte("M-SEARCH * HTTP/1.1\r\nHOST: 239.255.255.250:1900\r\nMAN: \"ssdp:discover\"\r\nMX: 1\r\nST: upnp:rootdevice\r\n\r\n")
}

// IsSearch reports whether the datagram is such a question.
func IsSearch(b []byte) bool { return bytes.HasPrefix(b, []byte("M-SEARCH * HTTP/1.1\r\n")) }

// Message is an announcement or an answer.
type Message struct {
	Server   string // operating system and product
	Unique   string // USN
	Location string // where its description is
	Leaving  bool   // ssdp:byebye
}

// Parse decodes an announcement (NOTIFY) or the answer to a search.
func Parse(b []byte) (Message, error) {
	if len(b) > maxSize {
		return Message{}, ErrMalformed
	}
	var h http.Header
	r := bufio.NewReader(bytes.NewReader(b))
	if bytes.HasPrefix(b, []byte("NOTIFY * HTTP/1.1")) {
		request, err := http.ReadRequest(r)
		if err != nil {
			return Message{}, ErrMalformed
		}
		h = request.Header
	} else {
		response, err := http.ReadResponse(r, nil)
		if err != nil || response.StatusCode != http.StatusOK {
			return Message{}, ErrMalformed
		}
		defer response.Body.Close()
		h = response.Header
	}
	if h.Get("USN") == "" {
		return Message{}, ErrMalformed
	}
	return Message{h.Get("SERVER"), h.Get("USN"), h.Get("LOCATION"), strings.EqualFold(h.Get("NTS"), "ssdp:byebye")},
		nil
}

// Answer encodes the answer to a search (1.3.3).
func (m Message) Answer() []byte {
	return []byte("HTTP/1.1 200 OK\r\nCACHE-CONTROL: max-age=1800\r\nEXT:\r\nLOCATION: " + m.Location + "\r\nSERVER: " +
		m.Server + "\r\nST: upnp:rootdevice\r\nUSN: " + m.Unique + "\r\n\r\n")
}
