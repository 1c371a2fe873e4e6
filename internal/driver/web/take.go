package web

import (
	"bytes"
	"fmt"
	"net/http"
	"regexp"
	"strings"

	"github.com/PuerkitoBio/goquery"
	"github.com/andybalholm/cascadia"
	"github.com/antchfx/xmlquery"
	"github.com/antchfx/xpath"

	"redstart/internal/driver"
	"redstart/internal/driver/overhttp"
)

// way is one way to take a value out of an answer: how it is written, whether what
// follows is sound, and the taking.
type way struct {
	written string
	check   func(what string) error
	take    func(a overhttp.Answer, what string) (string, error)
}

// ways are all of them, by the word that they begin with.
var ways = map[string]way{
	"json": {`"json /pointer" (RFC 6901)`, driver.CheckPointer, func(a overhttp.Answer, what string) (string, error) {
		return driver.Pointer(a.Body, what)
	}},
	"css": {`"css selector", "css selector@attribute"`, checkSelector, func(a overhttp.Answer, what string) (string, error) {
		return element(a.Body, what)
	}},
	"xml": {`"xml path" (XPath 1.0)`, checkPath, func(a overhttp.Answer, what string) (string, error) {
		return node(a.Body, what)
	}},
	"text": {`"text expression" with one group`, checkExpression, func(a overhttp.Answer, what string) (string, error) {
		return fitting(a.Body, what)
	}},
	"rows": {`"rows expression" with named groups`, checkRows, func(a overhttp.Answer, what string) (string, error) {
		return rows(a.Body, what)
	}},
	"header": {`"header Name"`, checkHeader, func(a overhttp.Answer, what string) (string, error) {
		return a.Header.Get(what), nil
	}},
	"cookie": {`"cookie Name"`, checkHeader, func(a overhttp.Answer, what string) (string, error) {
		return cookie(a.Cookies, what)
	}},
}

// takeForms lists how a value is taken from an answer, for hints.
var takeForms = "write " + strings.Join([]string{ways["json"].written, ways["css"].written, ways["xml"].written,
	ways["text"].written, ways["rows"].written, ways["header"].written}, ", ") +
	" or " + ways["cookie"].written

// checkTake checks where a value is taken from.
func checkTake(from string) error {
	how, what, _ := strings.Cut(from, " ")
	w, ok := ways[how]
	if !ok {
		return fmt.Errorf("%q says nothing about where to look; %s", from, takeForms)
	}
	if err := w.check(what); err != nil {
		return fmt.Errorf("%q: %w; %s", from, err, takeForms)
	}
	return nil
}

// take gets one value out of an answer.
func take(from string, a overhttp.Answer) (string, error) {
	how, what, _ := strings.Cut(from, " ")
	w, ok := ways[how]
	if !ok {
		return "", fmt.Errorf("%q says nothing about where to look", from)
	}
	return w.take(a, what)
}

func checkHeader(name string) error {
	if !headerForm.MatchString(name) {
		return fmt.Errorf("a header's name follows, or a cookie's (RFC 9110, 5.6.2)")
	}
	return nil
}

func cookie(list []*http.Cookie, name string) (string, error) {
	for _, c := range list {
		if c.Name == name {
			return c.Value, nil
		}
	}
	return "", fmt.Errorf("there is no cookie %s", name)
}

func checkExpression(text string) error {
	e, err := regexp.Compile(text)
	switch {
	case err != nil:
		return fmt.Errorf("%q is no regular expression: %w", text, err)
	case e.NumSubexp() != 1:
		return fmt.Errorf("the expression needs one group in brackets: what is taken")
	}
	return nil
}

func fitting(body []byte, text string) (string, error) {
	e, err := regexp.Compile(text)
	if err != nil {
		return "", err
	}
	found := e.FindSubmatch(body)
	if len(found) < 2 {
		return "", fmt.Errorf("nothing in the answer fits %q", text)
	}
	return string(found[1]), nil
}

func checkRows(text string) error {
	e, err := regexp.Compile(text)
	if err != nil {
		return fmt.Errorf("%q is no regular expression: %w", text, err)
	}
	return driver.CheckRows(e)
}

func rows(body []byte, text string) (string, error) {
	e, err := regexp.Compile(text)
	if err != nil {
		return "", err
	}
	return driver.Rows(e, string(body)), nil
}

func checkPath(path string) error {
	if _, err := xpath.Compile(path); err != nil {
		return fmt.Errorf("%q is no path: %w", path, err)
	}
	return nil
}

// node follows a path (XPath 1.0) to an element or attribute and gives its text.
func node(body []byte, path string) (string, error) {
	doc, err := xmlquery.Parse(bytes.NewReader(body))
	if err != nil {
		return "", fmt.Errorf("the answer is not XML")
	}
	found, err := xmlquery.Query(doc, path)
	if err != nil {
		return "", err
	}
	if found == nil {
		return "", fmt.Errorf("there is nothing at %s", path)
	}
	return strings.TrimSpace(found.InnerText()), nil
}

func checkSelector(what string) error {
	selector, attribute, at := strings.Cut(what, "@")
	if _, err := cascadia.ParseGroup(selector); err != nil {
		return fmt.Errorf("%q is no CSS selector: %w", selector, err)
	}
	if at && attribute == "" {
		return fmt.Errorf("an attribute's name follows @")
	}
	return nil
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
