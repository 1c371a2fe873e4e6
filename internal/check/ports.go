package check

import (
	"context"
	"fmt"
	"strconv"

	"redstart/internal/core/result"
)

// ports opens each TCP port that the profile says is open.
var ports = &Check{
	Wants: func(s Subject) (list []Want) {
		for _, p := range s.Profile.Ports {
			list = append(list, Want{Name: fmt.Sprintf("port %d", p), Expected: "open", Key: strconv.Itoa(int(p))})
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
			return result.Answered(plain(v.conversation().Knock(ctx, uint16(port))), "open"), nil
		})
	},
}
