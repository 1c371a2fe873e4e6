package value

import (
	"cmp"
	"strconv"
	"strings"
)

// CompareVersions orders two versions: numbers in them by their size, all else by letters, so
// that 2.10 comes after 2.9. The result is negative when a is older.
func CompareVersions(a, b string) int {
	x, y := versionParts(a), versionParts(b)
	for i := range max(len(x), len(y)) {
		var p, q string
		if i < len(x) {
			p = x[i]
		}
		if i < len(y) {
			q = y[i]
		}
		n, err := strconv.ParseUint(p, 10, 64)
		m, err2 := strconv.ParseUint(q, 10, 64)
		order := cmp.Compare(p, q)
		switch {
		case err == nil && err2 == nil:
			order = cmp.Compare(n, m)
		case err == nil && q == "" && n == 0, err2 == nil && p == "" && m == 0:
			order = 0 // 2.6 is 2.6.0
		}
		if order != 0 {
			return order
		}
	}
	return 0
}

// versionParts splits a version where numbers and letters meet, and at what is neither.
func versionParts(v string) (parts []string) {
	v = strings.TrimPrefix(strings.ToLower(strings.TrimSpace(v)), "v")
	last := rune(0)
	kind := func(r rune) rune {
		switch {
		case r >= '0' && r <= '9':
			return '0'
		case r >= 'a' && r <= 'z':
			return 'a'
		}
		return 0
	}
	for _, r := range v {
		k := kind(r)
		switch {
		case k == 0:
		case k == last:
			parts[len(parts)-1] += string(r)
		default:
			parts = append(parts, string(r))
		}
		last = k
	}
	return parts
}
