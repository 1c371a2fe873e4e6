package service

import (
	"bytes"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"redstart/internal/core/address"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
	"redstart/internal/vault"
)

// VaultStatus tells whether secrets can be used.
type VaultStatus struct {
	Locked bool   `json:"locked"`
	Opener string `json:"opener"` // file or passphrase
}

// Passphrase opens the vault.
type Passphrase struct {
	Passphrase string `json:"passphrase"`
}

// VaultStatus tells whether the vault is open.
func (s *Service) VaultStatus() VaultStatus {
	return VaultStatus{s.vault.Locked(), s.vault.Opener()}
}

// vaultChanged tells everyone whether the vault is open now.
func (s *Service) vaultChanged() VaultStatus {
	now := s.VaultStatus()
	s.hub.publish("", "vault", now)
	return now
}

// UnlockVault opens the vault. Tries are limited like those to sign in.
func (s *Service) UnlockVault(ctx context.Context, passphrase string) (VaultStatus, error) {
	if err := s.signIns.allow("vault"); err != nil {
		return s.VaultStatus(), err
	}
	if err := s.vault.Unlock(ctx, passphrase); err != nil {
		return s.VaultStatus(), err
	}
	return s.vaultChanged(), nil
}

// ChangeKey gives the vault a new key.
func (s *Service) ChangeKey(ctx context.Context, passphrase string) (VaultStatus, error) {
	if a := s.Activity(); a.State == "running" {
		return s.VaultStatus(), problem.New(problem.Conflict, "work is under way", "wait until it is done, or stop it")
	}
	if err := s.vault.Change(ctx, passphrase); err != nil {
		return s.VaultStatus(), err
	}
	s.log.Info("the vault has a new key", "opener", s.vault.Opener())
	return s.vaultChanged(), nil
}

// PolicyChange is a policy with the password that it gives, if it gives one.
type PolicyChange struct {
	plan.Policy
	Password string `json:"password"` // mode given: the password; "" keeps the one before
}

// SetPolicy sets how logins are made for the site, a kind or a profile.
func (s *Site) SetPolicy(ctx context.Context, in PolicyChange, who string) (plan.Site, error) {
	return s.change(ctx, "policy set: "+in.Words(), who, func(data plan.Site) (plan.Site, error) {
		policy := in.Policy
		policy.Given = ""
		at := slices.IndexFunc(data.Policies, func(c plan.Policy) bool { return c.For == policy.For })
		if policy.Mode == plan.Given {
			if at >= 0 {
				policy.Given = data.Policies[at].Given
			}
			if in.Password != "" {
				var err error
				if policy.Given, err = s.vault.Keep(ctx, s.store, in.Password); err != nil {
					return data, err
				}
			}
		}
		data.Policies = slices.Clone(data.Policies)
		if at >= 0 {
			data.Policies[at] = policy
		} else {
			data.Policies = append(data.Policies, policy)
		}
		return data, nil
	})
}

// RemovePolicy takes a policy away.
func (s *Site) RemovePolicy(ctx context.Context, of, who string) (plan.Site, error) {
	return s.change(ctx, "policy taken away: "+of, who, func(data plan.Site) (plan.Site, error) {
		rest := slices.DeleteFunc(slices.Clone(data.Policies), func(c plan.Policy) bool { return c.For == of })
		if len(rest) == len(data.Policies) {
			return data, problem.New(problem.Missing, "there is no such policy", "").About(of)
		}
		data.Policies = rest
		return data, nil
	})
}

// Shown is a secret that a person asked to see.
type Shown struct {
	User     string `json:"user,omitempty"`
	Password string `json:"password"`
}

// Reveal gives the stored login of an entry's device, or one of its secret
// settings, and records who asked.
func (s *Site) Reveal(ctx context.Context, tag, setting, who string) (Shown, error) {
	e, err := s.store.Entry(ctx, tag)
	if err != nil {
		return Shown{}, err
	}
	if setting != "" {
		secret, ok, err := "", false, error(nil)
		if token := e.Settings[setting]; strings.HasPrefix(token, vault.Prefix) {
			secret, ok, err = s.vault.Secret(ctx, token)
		}
		if err == nil && !ok {
			err = problem.New(problem.Missing, "it has no such secret", "").About(tag)
		}
		if err != nil {
			return Shown{}, err
		}
		return Shown{Password: secret}, s.store.AddNote(ctx, tag, who, setting+" shown")
	}
	logins, err := s.vault.Logins(ctx, e.Device)
	if err != nil {
		return Shown{}, err
	}
	if len(logins) == 0 || e.Device.IsZero() {
		return Shown{}, problem.New(problem.Conflict, "no credential of this device is stored", "commission it first").About(tag)
	}
	return Shown{logins[0].User, logins[0].Password}, s.store.AddNote(ctx, tag, who, "credential shown")
}

// Learned is how many known logins were taken in.
type Learned struct {
	Stored int `json:"stored"`
}

// LearnCredentials takes in known logins of devices that are set already, from
// CSV with the columns tag or mac, user and password, all or none.
func (s *Site) LearnCredentials(ctx context.Context, content []byte, who string) (Learned, error) {
	entries, err := s.store.Entries(ctx)
	if err != nil {
		return Learned{}, err
	}
	boxes, tags := map[string]address.MAC{}, map[string]bool{}
	for _, e := range entries {
		tags[e.Tag] = true
		if boxes[e.Tag] = e.Device; e.Device.IsZero() {
			boxes[e.Tag] = e.MAC
		}
	}
	known, cells, err := readCredentials(content, boxes, tags)
	if err != nil {
		return Learned{}, err
	}
	if len(cells) > 0 {
		e := problem.New(problem.Usage, "the logins were refused whole; none was stored", "mend the rows and give the file again").About("credentials")
		e.Cells = cells
		return Learned{}, e
	}
	for _, k := range known {
		if err := s.vault.Put(ctx, k.mac, k.login); err != nil {
			return Learned{}, err
		}
		if k.tag != "" {
			if err := s.store.AddNote(ctx, k.tag, who, "known login stored"); err != nil {
				return Learned{}, err
			}
		}
	}
	return Learned{len(known)}, nil
}

type knownLogin struct {
	tag   string
	mac   address.MAC
	login profile.Login
}

// readCredentials reads a file of logins. No complaint repeats a password.
func readCredentials(content []byte, boxes map[string]address.MAC, tags map[string]bool) ([]knownLogin, []problem.Cell, error) {
	r := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(content, []byte("\ufeff"))))
	header, err := r.Read()
	at := map[string]int{"tag": -1, "mac": -1, "user": -1, "password": -1}
	for i, h := range header {
		at[strings.ToLower(strings.TrimSpace(h))] = i
	}
	if err != nil || at["password"] < 0 || at["user"] < 0 || at["tag"] < 0 && at["mac"] < 0 {
		return nil, nil, problem.New(problem.Usage, "the file needs the columns user, password, and tag or mac", "begin it with: tag,user,password").About("credentials")
	}
	var list []knownLogin
	var cells []problem.Cell
	for {
		fields, err := r.Read()
		if errors.Is(err, io.EOF) {
			return list, cells, nil
		}
		if err != nil {
			row := 0
			if bad := (*csv.ParseError)(nil); errors.As(err, &bad) {
				row = bad.StartLine
			}
			return nil, []problem.Cell{{Row: row, Reason: "the row cannot be read: fields or quotes do not pair up"}}, nil
		}
		row, _ := r.FieldPos(0)
		get := func(column string) string {
			if i := at[column]; i >= 0 {
				return strings.TrimSpace(fields[i])
			}
			return ""
		}
		k := knownLogin{tag: get("tag"), login: profile.Login{User: get("user"), Password: get("password")}}
		complain := func(column, value, reason string) {
			cells = append(cells, problem.Cell{Row: row, Column: column, Value: value, Reason: reason})
		}
		k.mac, err = address.ParseMAC(get("mac"))
		switch {
		case err != nil:
			complain("mac", get("mac"), "is not a MAC address of one device")
		case k.mac.IsZero() && !tags[k.tag]:
			complain("tag", k.tag, "there is no such entry in the plan")
		case k.mac.IsZero() && boxes[k.tag].IsZero():
			complain("tag", k.tag, "no box is known for this entry; match it first, or give its MAC")
		}
		if k.mac.IsZero() {
			k.mac = boxes[k.tag]
		}
		if k.login.Password == "" || len(k.login.Password) > 200 {
			complain("password", "", fmt.Sprintf("is empty or longer than %d characters", 200))
		}
		if !tags[k.tag] {
			k.tag = ""
		}
		list = append(list, k)
	}
}
