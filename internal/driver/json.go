package driver

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"redstart/internal/core/profile"
	"redstart/internal/core/value"
)

// CheckPointer reports why a text is no JSON pointer (RFC 6901).
func CheckPointer(path string) error {
	switch {
	case path != "" && !strings.HasPrefix(path, "/"):
		return fmt.Errorf("a pointer begins with /")
	case strings.Contains(strings.NewReplacer("~0", "", "~1", "").Replace(path), "~"):
		return fmt.Errorf("in a pointer ~ is written ~0, and / within a name ~1 (RFC 6901)")
	}
	return nil
}

// ErrNothing says that a document has nothing where a pointer leads.
var ErrNothing = errors.New("there is nothing")

// Pointer follows a JSON pointer (RFC 6901) to a plain value and prints it; a list is printed
// as JSON.
func Pointer(body []byte, path string) (string, error) {
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
				return "", fmt.Errorf("%w at %s", ErrNothing, path)
			}
			at = v[i]
		default:
			return "", fmt.Errorf("%w at %s", ErrNothing, path)
		}
	}
	switch v := at.(type) {
	case nil:
		return "", fmt.Errorf("%w at %s", ErrNothing, path)
	case string:
		return v, nil
	case json.Number:
		return v.String(), nil
	case bool:
		return strconv.FormatBool(v), nil
	case []any: // a table
		text, err := json.Marshal(v)
		return string(text), err
	}
	return "", fmt.Errorf("there is no plain value at %s", path)
}

// FillJSON fills variables into a JSON body. What stands in for one is text, unless the name
// of the member says otherwise by its end: "cameras[]" is the list of the rows of a table,
// "vlan#" a number, "on?" true or false, "tagged#[]" a list of numbers. An empty number or
// truth is left out.
func FillJSON(v any, vars map[string]string) (any, error) {
	switch v := v.(type) {
	case string:
		return profile.Fill(v, vars, nil)
	case map[string]any:
		out := map[string]any{}
		for key, member := range v {
			filled, err := FillJSON(member, vars)
			if err != nil {
				return nil, err
			}
			name, typed, err := asTyped(key, filled)
			if err != nil {
				return nil, err
			}
			if typed != nil {
				out[name] = typed
			}
		}
		return out, nil
	case []any:
		out := make([]any, len(v))
		for i, element := range v {
			filled, err := FillJSON(element, vars)
			if err != nil {
				return nil, err
			}
			out[i] = filled
		}
		return out, nil
	}
	return v, nil
}

// asTyped gives a member of an object its name and its type; nil for one that is left out.
func asTyped(key string, filled any) (name string, typed any, err error) {
	text, isText := filled.(string)
	if !isText {
		return key, filled, nil
	}
	if name, ok := strings.CutSuffix(key, "#[]"); ok {
		list, err := value.Numbers(text)
		if err != nil {
			return "", nil, fmt.Errorf("%s %w", name, err)
		}
		return name, append([]int{}, list...), nil
	}
	if name, ok := strings.CutSuffix(key, "[]"); ok {
		rows, err := profile.ParseRows(text)
		if err != nil || rows == nil {
			rows = []profile.Row{}
		}
		return name, rows, nil
	}
	if name, ok := strings.CutSuffix(key, "#"); ok {
		if text == "" {
			return name, nil, nil
		}
		if _, err := strconv.ParseInt(text, 10, 64); err != nil {
			return "", nil, fmt.Errorf("%s is no whole number", name)
		}
		return name, json.Number(text), nil
	}
	if name, ok := strings.CutSuffix(key, "?"); ok {
		if text == "" {
			return name, nil, nil
		}
		word, ok := value.YesNo(text)
		if !ok {
			return "", nil, fmt.Errorf("%s is neither yes nor no", name)
		}
		return name, word == "yes", nil
	}
	return key, filled, nil
}
