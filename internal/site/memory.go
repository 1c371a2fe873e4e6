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
// it is to live on a small machine beside everything else. What holds more than half of it has as
// much again.
const usualRoom = 160 << 20

// lookAtRoom is how often it is looked how much is in use.
const lookAtRoom = 2 * time.Second

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
		live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
		for {
			select {
			case <-tick.C:
				metrics.Read(live)
				debug.SetMemoryLimit(room(int64(live[0].Value.Uint64()), most))
			case <-ctx.Done():
				return
			}
		}
	}()
}

// room is the soft limit of a process that has so much in use, on a machine that has most for it.
func room(live, most int64) int64 { return min(max(usualRoom, 2*live), most) }

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
