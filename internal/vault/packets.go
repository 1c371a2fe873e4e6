package vault

import (
	"context"
	"errors"
	"io"

	"filippo.io/age"

	"redstart/internal/core/problem"
)

// packets gives the key with which captures of a site are sealed, made when there is none. It
// is kept as the site's secrets are, so a new key of the vault opens old captures.
func (s *Site) packets(ctx context.Context) (*age.X25519Identity, error) {
	text, err := s.once(ctx, "packets", func() (string, error) {
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
func (s *Site) Sealing(ctx context.Context, to io.Writer) (io.WriteCloser, error) {
	key, err := s.packets(ctx)
	if err != nil {
		return nil, err
	}
	return age.Encrypt(to, key.Recipient())
}

// Opening reads what was sealed for a site. Of what was cut off it gives what is whole.
func (s *Site) Opening(ctx context.Context, from io.Reader) ([]byte, error) {
	key, err := s.packets(ctx)
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
