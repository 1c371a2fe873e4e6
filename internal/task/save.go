package task

import (
	"context"

	"redstart/internal/core/profile"
)

// save makes the running settings the saved ones.
var save = &Task{
	Name: string(profile.Save),
	Text: func(o Of) string { return itself(o, "save the settings, so that they survive a power cut") },
	Do:   func(ctx context.Context, b *Box, s Step) (string, error) { return b.act(ctx, s) },
}
