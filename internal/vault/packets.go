package vault

import (
	"context"
	"errors"
	"io"

	"filippo.io/age"

	"redstart/internal/core/problem"
	"redstart/internal/store"
)

// packets gives the key with which captures of a site are sealed, made when there is none. It
// is kept as the site's secrets are, so a new key of the vault opens old captures.
func (v *Vault) packets(ctx context.Context, site *store.Site) (*age.X25519Identity, error) {
	text, err := v.once(ctx, site, "packets", func() (string, error) {
		made, err := age.GenerateX25519Identity()
		if err != nil {
			return "", err
		}
		return made.String(), nil
	})
	if err != nil {
		return nil, err
	}
	return age.ParseX25519Identity(text)
}

// Sealing gives a writer that seals what is written for a site (age-encryption.org/v1); only
// closing it makes it whole.
func (v *Vault) Sealing(ctx context.Context, site *store.Site, to io.Writer) (io.WriteCloser, error) {
	key, err := v.packets(ctx, site)
	if err != nil {
		return nil, err
	}
	return age.Encrypt(to, key.Recipient())
}

// Opening reads what was sealed for a site. Of what was cut off it gives what is whole.
func (v *Vault) Opening(ctx context.Context, site *store.Site, from io.Reader) ([]byte, error) {
	key, err := v.packets(ctx, site)
	if err != nil {
		return nil, err
	}
	plain, err := age.Decrypt(from, key)
	if err != nil {
		return nil, problem.New(problem.Conflict, "what was sealed cannot be opened: it is damaged, or of a key of the vault that is lost",
			"restore vault.key of that time, or find again with --capture").Because(err)
	}
	content, err := io.ReadAll(plain)
	if len(content) > 0 && errors.Is(err, io.ErrUnexpectedEOF) {
		err = nil
	}
	return content, err
}
