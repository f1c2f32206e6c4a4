package postgres

import (
	"crypto/hmac"
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"strconv"
	"strings"

	"golang.org/x/text/secure/precis"
)

// A password never goes to the server, where a log could keep it: what goes there is what the server
// itself would keep of it (SCRAM-SHA-256, RFC 5802 and RFC 7677).

const scram = "SCRAM-SHA-256$"

// iterations is how often a password is hashed; it is what a server does by itself.
const iterations = 4096

// verifier is what a server keeps of a password: one that it has kept before, where one is of it.
func verifier(password string, before []string) (string, error) {
	for _, kept := range before {
		if fits(kept, password) {
			return kept, nil
		}
	}
	salt := make([]byte, 16)
	if _, err := rand.Read(salt); err != nil {
		return "", err
	}
	return verifierWith(password, salt, iterations)
}

func verifierWith(password string, salt []byte, rounds int) (string, error) {
	if prepared, err := precis.OpaqueString.String(password); err == nil {
		password = prepared
	}
	salted, err := pbkdf2.Key(sha256.New, password, salt, rounds, sha256.Size)
	if err != nil {
		return "", fmt.Errorf("hash a password: %w", err)
	}
	mac := func(text string) []byte {
		h := hmac.New(sha256.New, salted)
		h.Write([]byte(text))
		return h.Sum(nil)
	}
	stored := sha256.Sum256(mac("Client Key"))
	code := base64.StdEncoding.EncodeToString
	return fmt.Sprintf("%s%d:%s$%s:%s", scram, rounds, code(salt), code(stored[:]), code(mac("Server Key"))), nil
}

// fits reports whether what a server keeps is of a password.
func fits(kept, password string) bool {
	rest, ok := strings.CutPrefix(kept, scram)
	head, _, ok2 := strings.Cut(rest, "$")
	rounds, coded, ok3 := strings.Cut(head, ":")
	n, err := strconv.Atoi(rounds)
	if !ok || !ok2 || !ok3 || err != nil || n < 1 || n > 10_000_000 {
		return false
	}
	salt, err := base64.StdEncoding.DecodeString(coded)
	if err != nil {
		return false
	}
	same, err := verifierWith(password, salt, n)
	return err == nil && subtle.ConstantTimeCompare([]byte(same), []byte(kept)) == 1
}
