package handover

import (
	"encoding/csv"
	"errors"
	"io"
	"runtime/debug"
	"strings"
	"sync"
	"time"

	"filippo.io/age"

	"redstart/internal/core/problem"
)

// Credential is a login of a device, or a secret setting of it, as it is handed over.
type Credential struct {
	Tag, MAC, Address, Name string
	User, Password          string
	Setting                 string // key of a secret setting; "" for a login
	State                   string // of a login: accepted, pending, refused, superseded
	Since                   time.Time
	Opens                   string // what told the state
}

// leastPassphrase is how short a passphrase may be, in characters.
const leastPassphrase = 12

// UsualPassphraseWork is how much it costs to try a passphrase, as the power of two N (RFC 7914) that
// age takes of itself.
const UsualPassphraseWork = 18

// PassphraseWork is what it costs from now on; tests that are not about it take less.
var PassphraseWork = UsualPassphraseWork

// Recipients reads for whom credentials are sealed: public keys of age, or a passphrase.
func Recipients(keys []string, passphrase string) ([]age.Recipient, error) {
	switch {
	case (len(keys) > 0) == (passphrase != ""):
		return nil, problem.New(problem.Usage, "credentials are sealed either to public keys or with a passphrase",
			"give --recipient age1…, as age-keygen prints it, or --passphrase")
	case passphrase != "" && len([]rune(passphrase)) < leastPassphrase:
		return nil, problem.New(problem.Usage, "the passphrase is shorter than 12 characters", "take a few words that nobody says together")
	case passphrase != "":
		r, err := age.NewScryptRecipient(passphrase)
		if err != nil {
			return nil, err
		}
		r.SetWorkFactor(PassphraseWork)
		return []age.Recipient{alone{r}}, nil
	case len(keys) > 50:
		return nil, problem.New(problem.Usage, "these are more than 50 public keys", "seal it to fewer")
	}
	var list []age.Recipient
	for _, key := range keys {
		r, err := age.ParseX25519Recipient(strings.TrimSpace(key))
		if err != nil {
			return nil, problem.New(problem.Usage, "this is no public key of age: it begins with age1 and has 62 characters",
				"copy what age-keygen -y prints").About(short(key)).Because(err)
		}
		list = append(list, r)
	}
	return list, nil
}

// alone makes keys from passphrases one after another: each takes 256 MiB while it is made
// (RFC 7914, with N = 2^18 and r = 8), which is given back at once.
type alone struct{ r *age.ScryptRecipient }

var making sync.Mutex

// Wrap implements age.Recipient.
func (a alone) Wrap(key []byte) ([]*age.Stanza, error) {
	stanzas, _, err := a.WrapWithLabels(key)
	return stanzas, err
}

// WrapWithLabels implements age.RecipientWithLabels.
func (a alone) WrapWithLabels(key []byte) ([]*age.Stanza, []string, error) {
	making.Lock()
	defer making.Unlock()
	if PassphraseWork >= UsualPassphraseWork {
		defer debug.FreeOSMemory()
	}
	return a.r.WrapWithLabels(key)
}

func short(text string) string {
	if len(text) > 16 {
		return text[:16] + "…"
	}
	return text
}

// Credentials writes logins and secrets as CSV (RFC 4180), sealed (age-encryption.org/v1): the
// age program opens it, and another Redstart takes it with redstart vault learn.
func Credentials(out io.Writer, list []Credential, to []age.Recipient) error {
	sealed, err := age.Encrypt(out, to...)
	if err != nil {
		return err
	}
	w := csv.NewWriter(sealed)
	if err := w.Write([]string{"tag", "mac", "address", "name", "setting", "user", "password", "state", "since", "opens"}); err != nil {
		return err
	}
	for _, c := range list {
		since := ""
		if !c.Since.IsZero() {
			since = c.Since.UTC().Format(time.RFC3339)
		}
		if err := w.Write([]string{c.Tag, c.MAC, c.Address, c.Name, c.Setting, c.User, c.Password, c.State, since, c.Opens}); err != nil {
			return err
		}
	}
	w.Flush()
	return errors.Join(w.Error(), sealed.Close())
}
