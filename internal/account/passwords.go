package account

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"strings"

	"golang.org/x/crypto/argon2"
)

// Cost is what a password costs to check: rounds of Argon2id, KiB of memory, and lanes
// (RFC 9106, 3.1).
type Cost struct {
	Rounds, Memory uint32
	Lanes          uint8
}

// Usual is the second recommended option (RFC 9106, 4).
var Usual = Cost{Rounds: 3, Memory: 64 << 10, Lanes: 4}

const keyBytes = 32

// hash gives the PHC string of a password under Argon2id.
func (c Cost) hash(password string) string {
	salt := make([]byte, 16)
	rand.Read(salt)
	return c.phc(salt, argon2.IDKey([]byte(password), salt, c.Rounds, c.Memory, c.Lanes, keyBytes))
}

// decoy is the hash of nobody's password; to try one costs as much as with somebody's.
func (c Cost) decoy() string { return c.phc(make([]byte, 16), make([]byte, keyBytes)) }

func (c Cost) phc(salt, key []byte) string {
	enc := base64.RawStdEncoding
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, c.Memory, c.Rounds, c.Lanes,
		enc.EncodeToString(salt), enc.EncodeToString(key))
}

func passwordFits(hash, password string) bool {
	parts := strings.Split(hash, "$")
	if len(parts) != 6 {
		return false
	}
	var memory, rounds uint32
	var threads uint8
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &memory, &rounds, &threads); err != nil {
		return false
	}
	enc := base64.RawStdEncoding
	salt, err := enc.DecodeString(parts[4])
	key, err2 := enc.DecodeString(parts[5])
	if err != nil || err2 != nil {
		return false
	}
	return subtle.ConstantTimeCompare(key, argon2.IDKey([]byte(password), salt, rounds, memory, threads,
		uint32(len(key)))) == 1
}

func tokenHash(token string) string {
	sum := sha256.Sum256([]byte(token))
	return hex.EncodeToString(sum[:])
}
