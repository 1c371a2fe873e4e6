package site

import (
	"context"

	"redstart/internal/api"
	"redstart/internal/core/problem"
)

// VaultStatus tells whether the vault is open.
func (s *Service) VaultStatus() api.VaultStatus {
	v := api.VaultStatus{Locked: s.vault.Locked(), Opener: s.vault.Opener()}
	if err := s.vault.Lost(); err != nil {
		v.Lost = err.Error()
	}
	if n, err := s.Records.SealedByLost(context.WithoutCancel(s.life)); err == nil {
		v.Sealed = n
	}
	return v
}

// BeginAnew gives a vault that nothing opens a new key. What the lost key sealed
// stays sealed.
func (s *Service) BeginAnew(ctx context.Context) (api.VaultStatus, error) {
	if err := s.vault.BeginAnew(ctx); err != nil {
		return s.VaultStatus(), err
	}
	s.Log.Warn("the vault was begun anew; what its old key sealed stays sealed")
	s.Plans.SealAnew(ctx)
	return s.vaultChanged(), nil
}

// vaultChanged tells everyone whether the vault is open now.
func (s *Service) vaultChanged() api.VaultStatus {
	now := s.VaultStatus()
	s.Events.Publish("", "vault", now)
	return now
}

// UnlockVault opens the vault. Tries are limited like those to sign in.
func (s *Service) UnlockVault(ctx context.Context, passphrase, who string) (api.VaultStatus, error) {
	if err := s.Accounts.Allow(who, "vault"); err != nil {
		return s.VaultStatus(), err
	}
	if err := s.vault.Unlock(ctx, passphrase); err != nil {
		return s.VaultStatus(), err
	}
	s.Plans.SealAnew(ctx)
	return s.vaultChanged(), nil
}

// ChangeKey gives the vault a new key.
func (s *Service) ChangeKey(ctx context.Context, passphrase string) (api.VaultStatus, error) {
	if s.Works.UnderWay(func(api.Work) bool { return true }) {
		return s.VaultStatus(), problem.New(problem.Conflict, "work is under way", "wait until it is done, or stop it")
	}
	if err := s.vault.Change(ctx, passphrase); err != nil {
		return s.VaultStatus(), err
	}
	s.Log.Info("the vault has a new key", "opener", s.vault.Opener())
	return s.vaultChanged(), nil
}

// LockVault locks the vault.
func (s *Service) LockVault() {
	s.vault.Lock()
	s.vaultChanged()
}
