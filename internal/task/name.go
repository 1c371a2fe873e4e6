package task

import (
	"context"

	"redstart/internal/core/profile"
)

// name gives the device its planned name.
var name = &Task{
	Name: string(profile.Name),
	Text: func(o Of) string { return itself(o, "set the name "+o.Given.Name+siteWideText(o)) },
	Do:   func(ctx context.Context, b *Box, s Step) (string, error) { return b.act(ctx, s) },
}
