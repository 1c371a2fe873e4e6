package check

import (
	"context"
	"time"

	"redstart/internal/core/result"
)

// Echo is the name of the check of the answer to an ICMP echo.
const Echo = "echo"

// echoTime is how long an answer may take.
const echoTime = 5 * time.Second

// echo asks for an ICMP echo (RFC 792).
var echo = &Check{
	Wants: func(Subject) []Want { return one(Echo, "answers") },
	Look: func(ctx context.Context, v *Visit, _ Want) (result.Look, error) {
		return v.once(Echo, func() (result.Look, error) {
			ctx, cancel := context.WithTimeout(ctx, echoTime)
			defer cancel()
			return result.Answered(plain(v.conversation().Echo(ctx)), "answers"), nil
		})
	},
}
