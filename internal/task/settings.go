package task

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"redstart/internal/core/procedure"
	"redstart/internal/core/profile"
)

// settings sets what the profile declares besides.
var settings = &Task{
	Name: string(profile.Settings),
	Text: func(o Of) string { return itself(o, "set "+settingsText(o.Given)+siteWideText(o)) },
	Do:   func(ctx context.Context, b *Box, s Step) (string, error) { return b.act(ctx, s) },
}

func settingsText(v procedure.Values) string {
	var parts []string
	for _, key := range slices.Sorted(maps.Keys(v.Settings)) {
		value := cmp.Or(v.Settings[key], "to nothing")
		if rows, err := profile.ParseRows(v.Settings[key]); strings.HasPrefix(value, "[{") && err == nil {
			value = fmt.Sprintf("(%d rows)", len(rows))
		}
		parts = append(parts, key+" "+value)
	}
	for _, key := range slices.Sorted(maps.Keys(v.Secrets)) {
		parts = append(parts, key+", a secret")
	}
	return strings.Join(parts, ", ")
}
