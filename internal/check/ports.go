package check

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"syscall"

	"redstart/internal/core/result"
)

const shut = "shut"

// ports opens each TCP port that the profile says is open, and tries each that must be shut.
var ports = &Check{
	Wants: func(s Subject) (list []Want) {
		for _, p := range s.Profile.Ports {
			list = append(list, Want{Name: fmt.Sprintf("port %d", p), Expected: "open", Key: strconv.Itoa(int(p))})
		}
		for _, p := range s.Profile.Shut {
			list = append(list, Want{Name: fmt.Sprintf("port %d", p), Expected: shut, Key: strconv.Itoa(int(p))})
		}
		return list
	},
	Look: func(ctx context.Context, v *Visit, w Want) (result.Look, error) {
		return v.once(w.Name, func() (result.Look, error) {
			port, err := strconv.ParseUint(w.Key, 10, 16)
			if err != nil {
				return result.Look{}, err
			}
			ctx, cancel := context.WithTimeout(ctx, echoTime)
			defer cancel()
			err = v.conversation().Knock(ctx, uint16(port))
			if w.Expected != shut {
				return result.Answered(plain(err), "open"), nil
			}
			switch {
			case err == nil:
				return result.Saw("open", false), nil
			case errors.Is(err, syscall.ECONNREFUSED), strings.Contains(err.Error(), "refused"):
				return result.Saw(shut, true), nil
			}
			// Silence shuts it too, if the device is there to be silent.
			if err := v.conversation().Echo(ctx); err != nil {
				return result.Unseen(plain(err).Error()), nil
			}
			return result.Saw(shut, true), nil
		})
	},
}
