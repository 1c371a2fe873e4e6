// Package shield keeps one device's panic from taking the whole service down: it
// becomes an error of that device's work, logged with its stack.
package shield

import (
	"context"
	"fmt"
	"log/slog"
	"runtime/debug"

	"redstart/internal/core/problem"
)

// Do calls f and turns a panic into an error about a subject, such as a MAC.
func Do(log *slog.Logger, subject string, f func() error) (err error) {
	defer func() {
		if p := recover(); p != nil {
			log.LogAttrs(context.Background(), slog.LevelError, "a defect of Redstart", slog.String("subject", subject),
				slog.String("panic", fmt.Sprint(p)), slog.String("stack", string(debug.Stack())))
			err = problem.New(problem.Machine, "a defect of ours stopped this; the device is not to blame",
				"tell Redstart's makers, with the lines of the service's log at this time").About(subject)
		}
	}()
	return f()
}
