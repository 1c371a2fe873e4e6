package account

import (
	"context"
	"crypto/rand"
	"strings"

	"redstart/internal/core/problem"
	"redstart/internal/store"
)

// NewToken is an API token as it is shown once.
type NewToken struct {
	Name  string `json:"name"`
	Token string `json:"token"`
}

// Tokens lists a person's tokens; an owner sees everybody's.
func (s *Accounts) Tokens(ctx context.Context, who Person) ([]store.Token, error) {
	if who.Rights == Own {
		return s.store.Tokens(ctx, "")
	}
	return s.store.Tokens(ctx, who.Name)
}

// AddToken makes a token that acts for a person until it is revoked.
func (s *Accounts) AddToken(ctx context.Context, who Person, name string) (NewToken, error) {
	if name = strings.TrimSpace(name); name == "" || len(name) > 60 {
		return NewToken{}, problem.New(problem.Usage, "a token needs a name of at most 60 characters",
			"name the program or computer that will use it")
	}
	if who.Name == LocalUser {
		who.Name = Owner
	}
	if _, err := s.known(ctx, who.Name); err != nil {
		return NewToken{}, err
	}
	token := rand.Text()
	return NewToken{name, token}, s.store.AddToken(ctx, store.Token{User: who.Name, Name: name, Hash: tokenHash(token)})
}

// RevokeToken revokes a token: one's own, or anybody's for an owner.
func (s *Accounts) RevokeToken(ctx context.Context, who Person, id int64) error {
	defer s.changes.tell()
	of := who.Name
	if who.Rights == Own {
		of = ""
	}
	return s.store.RevokeToken(ctx, id, of)
}
