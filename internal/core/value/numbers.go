package value

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// mostNumbers bounds a list of numbers.
const mostNumbers = 4096

// Numbers reads a list of whole numbers from 0 to 65535 and ranges of them, divided by
// commas or spaces: "1-4, 24". They are given in order, each once; the empty text has none.
func Numbers(text string) ([]int, error) {
	var list []int
	for _, part := range strings.FieldsFunc(text, func(r rune) bool { return r == ' ' || r == ',' || r == ';' }) {
		low, high, isRange := strings.Cut(part, "-")
		if !isRange {
			high = low
		}
		from, err := strconv.ParseUint(low, 10, 16)
		if err != nil {
			return nil, fmt.Errorf("has %q, which is neither a number nor a range like 1-4", part)
		}
		to, err := strconv.ParseUint(high, 10, 16)
		switch {
		case err != nil:
			return nil, fmt.Errorf("has %q, which is neither a number nor a range like 1-4", part)
		case to < from:
			return nil, fmt.Errorf("has %q, which goes down", part)
		case int(to-from)+len(list) >= mostNumbers:
			return nil, fmt.Errorf("has more than %d numbers", mostNumbers)
		}
		for n := from; n <= to; n++ {
			list = append(list, int(n))
		}
	}
	slices.Sort(list)
	return slices.Compact(list), nil
}

// NumbersText writes a list as Numbers reads it, in the shortest way: "1-4, 24".
func NumbersText(list []int) string {
	list = slices.Compact(slices.Sorted(slices.Values(list)))
	var parts []string
	for i := 0; i < len(list); {
		last := i
		for last+1 < len(list) && list[last+1] == list[last]+1 {
			last++
		}
		switch {
		case last == i:
			parts = append(parts, strconv.Itoa(list[i]))
		case last == i+1:
			parts = append(parts, strconv.Itoa(list[i]), strconv.Itoa(list[last]))
		default:
			parts = append(parts, fmt.Sprintf("%d-%d", list[i], list[last]))
		}
		i = last + 1
	}
	return strings.Join(parts, ", ")
}
