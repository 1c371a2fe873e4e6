package account

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"redstart/internal/api"
	"redstart/internal/core/problem"
	"redstart/internal/core/right"
	"redstart/internal/store"
)

const minPassword = 10

func checkPassword(password string) error {
	if n := len([]rune(password)); n < minPassword || n > 200 {
		return problem.New(problem.Usage, fmt.Sprintf("a password has %d to 200 characters", minPassword),
			"take a few words that nobody says together")
	}
	return nil
}

func check(a api.Account) error {
	switch {
	case a.Name == "" || len(a.Name) > 60 || a.Name != strings.TrimSpace(a.Name) ||
		strings.ContainsFunc(a.Name, func(r rune) bool {
			return r < ' ' || r == '/'
		}):
		return problem.New(problem.Usage, "a user's name has 1 to 60 characters, without slashes", "")
	case a.Name == LocalUser:
		return problem.New(problem.Usage, "this name is taken by commands on this computer", "choose another")
	case a.Rights == right.Nobody || !slices.Contains(right.All, a.Rights):
		return problem.New(problem.Usage, fmt.Sprintf("there is no right %q", a.Rights),
			"choose look, plan, commission or own").About(a.Name)
	}
	return nil
}

// Users lists who may sign in.
func (s *Accounts) Users(ctx context.Context) ([]api.User, error) {
	kept, err := s.store.Users(ctx)
	list := []api.User{}
	for _, u := range kept {
		list = append(list, api.User{Name: u.Name, Rights: right.Right(u.Rights)})
	}
	return list, err
}

// Add makes a user.
func (s *Accounts) Add(ctx context.Context, a api.Account) error {
	if err := check(a); err != nil {
		return err
	}
	if err := checkPassword(a.Password); err != nil {
		return err
	}
	return s.store.AddUser(ctx, store.User{Name: a.Name, Hash: s.Cost.hash(a.Password), Rights: string(a.Rights)})
}

// Set changes a user's rights, and the password if one is given: who knew the old one has to
// know the new one, and the user's tokens are revoked but for those that are to be kept.
func (s *Accounts) Set(ctx context.Context, a api.Account) error {
	defer s.changes.tell()
	u, err := s.known(ctx, a.Name)
	if err != nil {
		return err
	}
	if err := check(a); err != nil {
		return err
	}
	if a.Password != "" {
		if err := checkPassword(a.Password); err != nil {
			return err
		}
		u.Hash = s.Cost.hash(a.Password)
	}
	if right.Right(u.Rights) == right.Own && a.Rights != right.Own {
		if err := s.notLastOwner(ctx, a.Name); err != nil {
			return err
		}
	}
	u.Rights = string(a.Rights)
	if a.Password == "" {
		return s.store.SetUser(ctx, u)
	}
	return s.store.SetPassword(ctx, u, a.Keep)
}

func (s *Accounts) known(ctx context.Context, name string) (store.User, error) {
	u, err := s.store.User(ctx, name)
	if err == nil && u.Name == "" {
		err = problem.New(problem.Missing, "there is no such user", "").About(name)
	}
	return u, err
}

func (s *Accounts) notLastOwner(ctx context.Context, name string) error {
	users, err := s.store.Users(ctx)
	if err != nil {
		return err
	}
	for _, u := range users {
		if u.Name != name && right.Right(u.Rights) == right.Own {
			return nil
		}
	}
	return problem.New(problem.Conflict, "this is the only owner", "make another owner first").About(name)
}

// Remove removes a user with sessions and tokens.
func (s *Accounts) Remove(ctx context.Context, name string) error {
	defer s.changes.tell()
	if _, err := s.known(ctx, name); err != nil {
		return err
	}
	if err := s.notLastOwner(ctx, name); err != nil {
		return err
	}
	return s.store.RemoveUser(ctx, name)
}

// ChangePassword changes one's own password, signs out everywhere, and revokes all tokens that
// are not to be kept.
func (s *Accounts) ChangePassword(ctx context.Context, who api.Person, in api.NewPassword) error {
	defer s.changes.tell()
	u, err := s.known(ctx, who.Name)
	if err != nil {
		return err
	}
	if err := s.Allow(who.Name, "password"); err != nil {
		return err
	}
	fits := false
	if err := s.checking.do(s.Cost.Memory, func() { fits = passwordFits(u.Hash, in.Old) }); err != nil {
		return err
	}
	if !fits {
		return problem.New(problem.Usage, "the old password is wrong", "")
	}
	if err := checkPassword(in.New); err != nil {
		return err
	}
	u.Hash = s.Cost.hash(in.New)
	return s.store.SetPassword(ctx, u, in.Keep)
}
