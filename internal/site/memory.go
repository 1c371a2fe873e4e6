package site

import (
	"bufio"
	"context"
	"fmt"
	"math"
	"os"
	"runtime/debug"
	"runtime/metrics"
	"strings"
	"time"
)

// roomy is how much garbage may gather before it is cleared, in per cent of what is
// in use. A conversation with a box is a whole TCP/IP stack that is needed for moments:
// a service holds little and lets go of much.
const roomy = 400

// usualRoom is what the whole process takes, in bytes, before garbage is cleared sooner than that:
// it is to live on a small machine beside everything else. What holds much has half as
// much again.
const usualRoom = 128 << 20

// lookAtRoom is how often it is looked how much is in use.
const lookAtRoom = 2 * time.Second

// What is garbage is given back to the machine once so little was asked for in each of so many looks.
const (
	littleAsked = 16 << 20 // bytes
	quietLooks  = 5
)

// GiveRoom lets the whole process use more memory for less work of clearing it, unless its
// environment says otherwise (GOGC, GOMEMLIMIT), until the context ends.
func GiveRoom(ctx context.Context) {
	if _, told := os.LookupEnv("GOGC"); !told {
		debug.SetGCPercent(roomy)
	}
	if _, told := os.LookupEnv("GOMEMLIMIT"); told {
		return
	}
	most := int64(math.MaxInt64)
	if has := memory(); has > 0 {
		most = has / 4 * 3
	}
	debug.SetMemoryLimit(min(usualRoom, most))
	go func() {
		tick := time.NewTicker(lookAtRoom)
		defer tick.Stop()
		seen := []metrics.Sample{{Name: "/gc/heap/live:bytes"}, {Name: "/gc/heap/allocs:bytes"}}
		rest := resting{}
		for {
			select {
			case <-tick.C:
				metrics.Read(seen)
				debug.SetMemoryLimit(room(int64(seen[0].Value.Uint64()), most))
				if rest.now(seen[1].Value.Uint64()) {
					debug.FreeOSMemory()
				}
			case <-ctx.Done():
				return
			}
		}
	}()
}

// resting tells when a process came to rest, by how much it has asked for since it began.
type resting struct {
	before uint64
	quiet  int // looks in a row in which little was asked for
}

// now reports, once each time, that the process has come to rest.
func (r *resting) now(asked uint64) bool {
	if asked-r.before > littleAsked {
		r.quiet = 0
	} else {
		r.quiet++
	}
	r.before = asked
	return r.quiet == quietLooks
}

// room is the soft limit of a process that has so much in use, on a machine that has most for it.
func room(live, most int64) int64 { return min(max(usualRoom, live+live/2), most) }

// memory tells how much the machine has, in bytes; 0 where that is not known.
func memory() int64 {
	file, err := os.Open("/proc/meminfo")
	if err != nil {
		return 0
	}
	defer file.Close()
	for lines := bufio.NewScanner(file); lines.Scan(); {
		var kib int64
		if strings.HasPrefix(lines.Text(), "MemTotal:") {
			if _, err := fmt.Sscanf(lines.Text(), "MemTotal: %d kB", &kib); err == nil {
				return kib << 10
			}
		}
	}
	return 0
}
