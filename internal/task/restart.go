package task

import (
	"context"

	"redstart/internal/core/profile"
)

// restart has the device restart, which also puts staged settings into effect.
var restart = &Task{
	Name: string(profile.Restart),
	Text: func(Of) string { return "restart it" },
	Do:   func(ctx context.Context, b *Box, s Step) (string, error) { return b.act(ctx, s) },
}
