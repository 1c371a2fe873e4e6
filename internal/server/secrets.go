package server

import (
	"redstart/internal/api"
	"redstart/internal/core/plan"
	"redstart/internal/core/right"
	"redstart/internal/planning"
)

func (s *Server) vaultRoutes() []route {
	const at = "/api/sites/:site/"
	return []route{
		call(s, "GET", "/api/vault", "Whether the vault is open, and what opens it", right.Look,
			func(*request, none) (api.VaultStatus, error) {
				return s.VaultStatus(), nil
			}),
		call(s, "POST", "/api/vault/lock", "Lock the vault", right.Commission,
			func(*request, none) (api.VaultStatus, error) {
				s.LockVault()
				return s.VaultStatus(), nil
			}),
		call(s, "POST", "/api/vault/unlock", "Unlock the vault", right.Commission,
			func(r *request, in api.Passphrase) (api.VaultStatus, error) {
				return s.UnlockVault(r, in.Passphrase, r.who.Name)
			}),
		call(s, "POST", "/api/vault/key",
			"Give the vault a new key: with a passphrase, or with a key file for an empty one", right.Own,
			func(r *request, in api.Passphrase) (api.VaultStatus, error) {
				return s.ChangeKey(r, in.Passphrase)
			}),
		call(s, "PUT", at+"policies", "Set how logins are made for the site, a kind or a profile", right.Plan,
			func(r *request, in api.PolicyChange) (plan.Site, error) {
				return r.site.Plan.SetPolicy(r, in, r.who.Name)
			}),
		call(s, "DELETE", at+"policies", "Take a policy away", right.Plan,
			func(r *request, _ none) (plan.Site, error) {
				return r.site.Plan.RemovePolicy(r, r.query("for"), r.who.Name)
			}).takes(text("for", "kind:NAME, profile:NAME, or nothing for the site's")),
		call(s, "POST", at+"entries/:tag/reveal",
			"Show the login that opens its device, or another secret of it; recorded", right.Commission,
			func(r *request, _ none) (api.Shown, error) {
				id := int64(0)
				if text := r.query("credential"); text != "" {
					var err error
					if id, err = planning.Number(text, "credential"); err != nil {
						return api.Shown{}, err
					}
				}
				return r.site.Plan.Reveal(r, r.param("tag"), r.query("setting"), id, r.who.Name)
			}).takes(text("setting", "key of a secret setting"), number("credential", "number of another stored login")),
		call(s, "GET", at+"known-logins", "Which devices are given whose login, without passwords", right.Look,
			func(r *request, _ none) ([]api.KnownLogin, error) {
				return r.site.Plan.KnownLogins(r)
			}),
		call(s, "GET", at+"entries/:tag/credentials", "What is stored to open its device, without passwords",
			right.Look, func(r *request, _ none) ([]api.Credential, error) {
				return r.site.Plan.Credentials(r, r.param("tag"))
			}),
		call(s, "POST", "/api/vault/begin-anew",
			"Give a vault that nothing opens a new key; what the lost one sealed stays sealed", right.Own,
			func(r *request, _ none) (api.VaultStatus, error) {
				return s.BeginAnew(r)
			}),
		call(s, "POST", at+"credentials",
			"Known logins of devices that are set already, as CSV: tag or mac, user, password", right.Commission,
			func(r *request, in file) (api.Learned, error) {
				return r.site.Jobs.LearnCredentials(r, in, r.who.Name)
			}),
	}
}
