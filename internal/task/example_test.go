package task

import (
	"context"
	"errors"
	"strings"
	"testing"

	"redstart/internal/core/profile"
)

// example is a whole task: have the device show itself, so that whoever stands before it
// sees which one is being set. docs/adding.md walks through it.
var example = &Task{
	Name: string(profile.Blink), // the act of the profile that it carries out
	Text: func(o Of) string { return itself(o, "blink, so that "+o.Given.Name+" is seen") },
	Do: func(ctx context.Context, b *Box, s Step) (string, error) {
		if b == nil {
			return "", errors.New("there is no box")
		}
		return b.act(ctx, s) // sends what the profile's act says; what comes of it is the journal's line
	},
}

// A task that joined the list is found by the act that a profile's order names.
func TestTheExampleJoinsByOneLine(t *testing.T) {
	stage := profile.Stage{Act: profile.Blink}
	if of(stage).Name != string(profile.Blink) || of(stage) == example {
		t.Fatal("it is in the list before it joined")
	}
	was := acts
	defer func() { acts = was }()
	acts = append(acts[:len(acts):len(acts)], example)
	if of(stage) != example {
		t.Fatal("it did not join")
	}
	o := Of{Stage: profile.Stage{Act: profile.Blink, Then: profile.Restarts}}
	o.Given.Name = "cam-1"
	if text := example.Text(o); !strings.Contains(text, "cam-1 is seen; it restarts by itself") {
		t.Error(text)
	}
	if _, err := example.Do(t.Context(), nil, Step{}); err == nil {
		t.Error("it was done to nobody")
	}
}
