package web

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/PuerkitoBio/goquery"
)

// take gets one value out of an answer: "json /pointer" (RFC 6901),
// "css selector" for an element's text, "css selector@attribute", or
// "header Name".
func take(from string, header http.Header, body []byte) (string, error) {
	how, what, _ := strings.Cut(from, " ")
	switch how {
	case "json":
		return pointer(body, what)
	case "css":
		return element(body, what)
	case "header":
		return header.Get(what), nil
	}
	return "", fmt.Errorf("%q says nothing about where to look", from)
}

func element(body []byte, selector string) (string, error) {
	selector, attribute, _ := strings.Cut(selector, "@")
	page, err := goquery.NewDocumentFromReader(bytes.NewReader(body))
	if err != nil {
		return "", err
	}
	found := page.Find(selector).First()
	if found.Length() == 0 {
		return "", fmt.Errorf("nothing on the page fits %q", selector)
	}
	if attribute == "" {
		return strings.TrimSpace(found.Text()), nil
	}
	value, ok := found.Attr(attribute)
	if !ok {
		return "", fmt.Errorf("%q has no %q", selector, attribute)
	}
	return value, nil
}

// pointer follows a JSON pointer (RFC 6901) to a scalar and prints it.
func pointer(body []byte, path string) (string, error) {
	decoder := json.NewDecoder(bytes.NewReader(body))
	decoder.UseNumber()
	var at any
	if err := decoder.Decode(&at); err != nil {
		return "", fmt.Errorf("the answer is not JSON")
	}
	for _, token := range strings.Split(path, "/")[1:] {
		token = strings.NewReplacer("~1", "/", "~0", "~").Replace(token)
		switch v := at.(type) {
		case map[string]any:
			at = v[token]
		case []any:
			i, err := strconv.Atoi(token)
			if err != nil || i < 0 || i >= len(v) {
				return "", fmt.Errorf("there is nothing at %s", path)
			}
			at = v[i]
		default:
			return "", fmt.Errorf("there is nothing at %s", path)
		}
	}
	switch v := at.(type) {
	case string:
		return v, nil
	case json.Number:
		return v.String(), nil
	case bool:
		return strconv.FormatBool(v), nil
	}
	return "", fmt.Errorf("there is no plain value at %s", path)
}
