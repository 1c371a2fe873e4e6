package account

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"redstart/internal/api"
	"redstart/internal/core/problem"
	"redstart/internal/core/right"
	"redstart/internal/core/stamp"
	"redstart/internal/store"
)

// Tokens lists a person's tokens; an owner sees everybody's.
func (s *Accounts) Tokens(ctx context.Context, who api.Person) ([]api.Token, error) {
	of := who.Name
	if who.Rights == right.Own {
		of = "" // everybody's
	}
	kept, err := s.store.Tokens(ctx, of)
	list := []api.Token{}
	for _, t := range kept {
		list = append(list, api.Token{ID: t.ID, User: t.User, Name: t.Name, MadeAt: t.MadeAt, UsedAt: t.UsedAt,
			Rights: right.Right(t.Rights), ExpiresAt: t.ExpiresAt})
	}
	return list, err
}

// ErrProgram refuses what only people do: a program that acts with a token must not give
// itself, or somebody else, more or longer than the token.
var ErrProgram = problem.New(problem.Rights, "a token may not make or change users, passwords and tokens",
	"sign in to the console, or do it on the service's own computer")

// AddToken makes a token that acts for a person until it expires or is revoked, with a right
// of its own that is at most the person's.
func (s *Accounts) AddToken(ctx context.Context, who api.Person, in api.ForToken) (api.NewToken, error) {
	if in.Name = strings.TrimSpace(in.Name); in.Name == "" || len(in.Name) > 60 {
		return api.NewToken{}, problem.New(problem.Usage, "a token needs a name of at most 60 characters",
			"name the program or computer that will use it")
	}
	if in.Days == 0 {
		in.Days = api.UsualDays
	}
	if in.Days < 1 || in.Days > api.MostDays {
		return api.NewToken{}, problem.New(problem.Usage, fmt.Sprintf("a token is good for 1 to %d days", api.MostDays),
			"make another when it has expired")
	}
	if who.Name == LocalUser {
		who.Name = Owner
	}
	u, err := s.known(ctx, who.Name)
	if err != nil {
		return api.NewToken{}, err
	}
	if in.Rights == right.Nobody {
		in.Rights = right.Look
	}
	if !slices.Contains(right.All, in.Rights) || !right.Right(u.Rights).Holds(in.Rights) {
		return api.NewToken{}, problem.New(problem.Usage, fmt.Sprintf("%s cannot give a token the right %q", who.Name, in.Rights),
			"choose one of: "+upTo(right.Right(u.Rights)))
	}
	t := store.Token{User: who.Name, Name: in.Name, Rights: string(in.Rights),
		ExpiresAt: stamp.Time{Time: stamp.Now().AddDate(0, 0, in.Days)}}
	token := rand.Text()
	t.Hash = tokenHash(token)
	return api.NewToken{Name: t.Name, Token: token, Rights: in.Rights, ExpiresAt: t.ExpiresAt}, s.store.AddToken(ctx, t)
}

// upTo lists the rights that one holds.
func upTo(most right.Right) string {
	var list []string
	for _, r := range right.All[1:] {
		if most.Holds(r) {
			list = append(list, string(r))
		}
	}
	return strings.Join(list, ", ")
}

// byToken finds out for whom a program acts, and with which right: the token's, as far as the
// person still has it.
func (s *Accounts) byToken(ctx context.Context, hash string) (api.Person, error) {
	t, ok, err := s.store.Token(ctx, hash)
	if err != nil || !ok {
		return api.Person{}, errors.Join(err, ErrSignIn)
	}
	if !t.ExpiresAt.IsZero() && !time.Now().Before(t.ExpiresAt.Time) {
		return api.Person{}, problem.New(problem.SignIn, "the token "+t.Name+" expired on "+t.ExpiresAt.Format(time.DateOnly),
			"make another")
	}
	if time.Since(t.UsedAt.Time) > time.Minute {
		if err := s.store.TokenUsed(ctx, t.ID); err != nil {
			return api.Person{}, err
		}
	}
	u, err := s.store.User(ctx, t.User)
	if err != nil || u.Name == "" {
		return api.Person{}, errors.Join(err, ErrSignIn)
	}
	may := right.Right(t.Rights)
	if !right.Right(u.Rights).Holds(may) {
		may = right.Right(u.Rights)
	}
	return api.Person{Name: u.Name, Rights: may, Token: t.Name, Until: t.ExpiresAt.Time}, nil
}

// RevokeToken revokes a token: one's own, or anybody's for an owner.
func (s *Accounts) RevokeToken(ctx context.Context, who api.Person, id int64) error {
	defer s.changes.tell()
	of := who.Name
	if who.Rights == right.Own {
		of = ""
	}
	return s.store.RevokeToken(ctx, id, of)
}
