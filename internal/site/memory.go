package site

import (
	"os"
	"runtime/debug"
)

// roomy is how much garbage may gather before it is cleared, in per cent of what is
// in use. A conversation with a box is a whole TCP/IP stack that is needed for moments:
// a service holds little and lets go of much.
const roomy = 400

// GiveRoom lets the whole process use more memory for less work of clearing it, unless
// its environment says otherwise (GOGC).
func GiveRoom() {
	if _, told := os.LookupEnv("GOGC"); !told {
		debug.SetGCPercent(roomy)
	}
}
