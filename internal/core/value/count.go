package value

import (
	"fmt"
	"strings"
)

// Count says how many there are: "1 device", "2 devices", "2 entries", "2 matches".
func Count(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	many := one + "s"
	if stem, y := strings.CutSuffix(one, "y"); y {
		many = stem + "ies"
	} else if strings.HasSuffix(one, "ch") {
		many = one + "es"
	}
	return fmt.Sprintf("%d %s", n, many)
}
