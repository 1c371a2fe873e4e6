package task

import (
	"context"
	"time"

	"redstart/internal/core/profile"
	"redstart/internal/core/stamp"
	"redstart/internal/core/state"
	"redstart/internal/store"
)

// terms has a person accept the terms of the model, unless somebody did for this site, and
// tells the device who did. Nothing but a person's word accepts them.
func (b *Box) terms(ctx context.Context, h profile.Hand, act profile.Act) (string, error) {
	accepted, ok, err := b.Records.Accepted(ctx, b.p.ID, h.Terms)
	if err != nil {
		return "", err
	}
	if !ok {
		if accepted, err = b.askForTerms(ctx, h); err != nil {
			return "", err
		}
	}
	if err := b.whereNow(ctx); err != nil { // it may have waited for days
		return "", err
	}
	if len(b.p.Acts[act]) > 0 {
		_, err = b.converse().Do(ctx, act, map[string]string{profile.AcceptedBy: accepted.Who,
			profile.AcceptedAt: accepted.At.Format(time.RFC3339)})
	}
	return "accepted by " + accepted.Who + " on " + accepted.At.Format(time.DateOnly), err
}

// askForTerms waits until somebody accepts the terms, at this device or at another of its
// model.
func (b *Box) askForTerms(ctx context.Context, h profile.Hand) (store.Acceptance, error) {
	b.HangUp()
	b.d.State = state.Running
	p, err := b.Park(ctx, h)
	if err != nil {
		return store.Acceptance{}, err
	}
	again := time.NewTicker(lookEvery)
	defer again.Stop()
	for {
		select {
		case word := <-p.Done:
			a := store.Acceptance{Profile: b.p.ID, Terms: h.Terms, Who: word.Who, At: stamp.Now()}
			if err := b.Records.Accept(ctx, a); err != nil {
				return a, err
			}
		case <-again.C:
		case <-p.Stop:
			return store.Acceptance{}, ErrStopped
		case <-ctx.Done():
			return store.Acceptance{}, ctx.Err()
		}
		if a, ok, err := b.Records.Accepted(ctx, b.p.ID, h.Terms); err != nil || ok {
			if err == nil {
				err = p.Back(ctx)
			}
			return a, err
		}
	}
}
