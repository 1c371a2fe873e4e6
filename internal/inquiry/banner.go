package inquiry

import (
	"bufio"
	"context"
	"io"

	"redstart/internal/core/fact"
	"redstart/internal/core/profile"
)

const maxBanner = 255 // RFC 4253, 4.2

// banner reads the shell's greeting (RFC 4253, 4.2) and says nothing.
var banner = question{profile.AskSSH, oneTime, func(ctx context.Context, t *talker) error {
	c, err := t.Dial(ctx, 22)
	if err != nil {
		return err
	}
	defer c.Close()
	if deadline, ok := ctx.Deadline(); ok {
		_ = c.SetReadDeadline(deadline) // a connection without deadlines ends with the conversation
	}
	line, err := bufio.NewReader(io.LimitReader(c, maxBanner)).ReadString('\n')
	if line == "" {
		return err
	}
	t.tell("ssh", "", fact.Banner, line, fact.Open, "22/tcp")
	return nil
}}
