package service

import (
	"context"
	"crypto/rand"
	"fmt"
	"slices"
	"strings"

	"redstart/internal/core/problem"
	"redstart/internal/store"
)

// Right is what a person may do. Each right holds those before it.
type Right string

const (
	Nobody     Right = ""           // without signing in
	Look       Right = "look"       // may only look
	Plan       Right = "plan"       // may change plans
	Commission Right = "commission" // may work on devices too
	Own        Right = "own"        // may do everything, and makes users
)

var rights = []Right{Nobody, Look, Plan, Commission, Own}

// Holds reports whether the right holds another.
func (r Right) Holds(need Right) bool {
	return slices.Index(rights, r) >= slices.Index(rights, need)
}

var mayNot = map[Right]string{Plan: "change plans", Commission: "work on devices", Own: "do what is left to the owner"}

// Person is who makes a request.
type Person struct {
	Name   string `json:"user"`
	Rights Right  `json:"rights"`
}

// Account is a user as an owner makes or changes it.
type Account struct {
	Name     string `json:"name"`
	Password string `json:"password"` // "" leaves it as it is
	Rights   Right  `json:"rights"`
}

// NewPassword changes one's own password.
type NewPassword struct {
	Old string `json:"old"`
	New string `json:"new"`
}

const minPassword = 10

func checkPassword(password string) error {
	if n := len([]rune(password)); n < minPassword || n > 200 {
		return problem.New(problem.Usage, fmt.Sprintf("a password has %d to 200 characters", minPassword), "take a few words that nobody says together")
	}
	return nil
}

func (a Account) check() error {
	switch {
	case a.Name == "" || len(a.Name) > 60 || a.Name != strings.TrimSpace(a.Name) || strings.ContainsFunc(a.Name, func(r rune) bool { return r < ' ' || r == '/' }):
		return problem.New(problem.Usage, "a user's name has 1 to 60 characters, without slashes", "")
	case a.Name == LocalUser:
		return problem.New(problem.Usage, "this name is taken by commands on this computer", "choose another")
	case a.Rights == Nobody || !slices.Contains(rights, a.Rights):
		return problem.New(problem.Usage, fmt.Sprintf("there is no right %q", a.Rights), "choose look, plan, commission or own").About(a.Name)
	}
	return nil
}

// AddUser makes a user.
func (s *Service) AddUser(ctx context.Context, a Account) error {
	if err := a.check(); err != nil {
		return err
	}
	if err := checkPassword(a.Password); err != nil {
		return err
	}
	return s.store.AddUser(ctx, store.User{Name: a.Name, Hash: hashPassword(a.Password), Rights: string(a.Rights)})
}

// SetUser changes a user's rights, and the password if one is given.
func (s *Service) SetUser(ctx context.Context, a Account) error {
	u, err := s.known(ctx, a.Name)
	if err != nil {
		return err
	}
	if err := a.check(); err != nil {
		return err
	}
	if a.Password != "" {
		if err := checkPassword(a.Password); err != nil {
			return err
		}
		u.Hash = hashPassword(a.Password)
	}
	if Right(u.Rights) == Own && a.Rights != Own {
		if err := s.notLastOwner(ctx, a.Name); err != nil {
			return err
		}
	}
	u.Rights = string(a.Rights)
	return s.store.SetUser(ctx, u)
}

func (s *Service) known(ctx context.Context, name string) (store.User, error) {
	u, err := s.store.User(ctx, name)
	if err == nil && u.Name == "" {
		err = problem.New(problem.Missing, "there is no such user", "").About(name)
	}
	return u, err
}

func (s *Service) notLastOwner(ctx context.Context, name string) error {
	users, err := s.store.Users(ctx)
	if err != nil {
		return err
	}
	for _, u := range users {
		if u.Name != name && Right(u.Rights) == Own {
			return nil
		}
	}
	return problem.New(problem.Conflict, "this is the only owner", "make another owner first").About(name)
}

// RemoveUser removes a user with sessions and tokens.
func (s *Service) RemoveUser(ctx context.Context, name string) error {
	if _, err := s.known(ctx, name); err != nil {
		return err
	}
	if err := s.notLastOwner(ctx, name); err != nil {
		return err
	}
	return s.store.RemoveUser(ctx, name)
}

// ChangePassword changes one's own password, and signs out everywhere.
func (s *Service) ChangePassword(ctx context.Context, who Person, in NewPassword) error {
	u, err := s.known(ctx, who.Name)
	if err != nil {
		return err
	}
	if err := s.signIns.allow("password " + who.Name); err != nil {
		return err
	}
	if !passwordFits(u.Hash, in.Old) {
		return problem.New(problem.Usage, "the old password is wrong", "")
	}
	if err := checkPassword(in.New); err != nil {
		return err
	}
	u.Hash = hashPassword(in.New)
	return s.store.SetUser(ctx, u)
}

// NewToken is an API token as it is shown once.
type NewToken struct {
	Name  string `json:"name"`
	Token string `json:"token"`
}

// Tokens lists a person's tokens; an owner sees everybody's.
func (s *Service) Tokens(ctx context.Context, who Person) ([]store.Token, error) {
	if who.Rights == Own {
		return s.store.Tokens(ctx, "")
	}
	return s.store.Tokens(ctx, who.Name)
}

// AddToken makes a token that acts for a person until it is revoked.
func (s *Service) AddToken(ctx context.Context, who Person, name string) (NewToken, error) {
	if name = strings.TrimSpace(name); name == "" || len(name) > 60 {
		return NewToken{}, problem.New(problem.Usage, "a token needs a name of at most 60 characters", "name the program or computer that will use it")
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
func (s *Service) RevokeToken(ctx context.Context, who Person, text string) error {
	id, err := number(text, "token")
	if err != nil {
		return err
	}
	of := who.Name
	if who.Rights == Own {
		of = ""
	}
	return s.store.RevokeToken(ctx, id, of)
}
