// Package identity is who a user of Brick Row is to others: a key to sign with,
// and one to which secrets can be sealed. Both lie in the user's own data folder,
// where nobody else can read them; what others need to know of them is Public.
package identity

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"os"
	"os/user"
	"path/filepath"
	"strings"
	"unicode"

	"filippo.io/age"

	"brickrow/internal/files"
)

// File is the name of the file with the keys, in the data folder.
const File = "identity.key"

const (
	signPrefix   = "signing-key:" // of the secret half, in the file
	publicPrefix = "ed25519:"
)

// Identity is one user, who can sign and open what is sealed to them.
type Identity struct {
	sign ed25519.PrivateKey
	open *age.X25519Identity
}

// Public is what others know of a user: the key that signatures are checked
// with, and the recipient that secrets are sealed to (age1…).
type Public struct{ Key, Recipient string }

// String is the line that one gives to others.
func (p Public) String() string { return p.Key + " " + p.Recipient }

// Parse reads such a line, or either part of it.
func Parse(line string) (Public, error) {
	var p Public
	for _, word := range strings.Fields(line) {
		switch {
		case strings.HasPrefix(word, publicPrefix):
			if _, err := decodeKey(word); err != nil {
				return p, err
			}
			p.Key = word
		case strings.HasPrefix(word, "age1"):
			if _, err := age.ParseX25519Recipient(word); err != nil {
				return p, fmt.Errorf("'%s' is no recipient: %w", word, err)
			}
			p.Recipient = word
		}
	}
	if p.Key == "" && p.Recipient == "" {
		return p, fmt.Errorf("'%s' is nobody's identity: 'brickrow identity' prints one's own", line)
	}
	return p, nil
}

// Open reads the identity of a data folder, or makes one.
func Open(dir string) (*Identity, error) {
	path := filepath.Join(dir, File)
	text, err := files.ReadPrivate(path, create)
	if err != nil {
		return nil, fmt.Errorf("the identity: %w", err)
	}
	return parse(path, string(text))
}

func parse(path, text string) (*Identity, error) {
	id := &Identity{}
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		switch {
		case strings.HasPrefix(line, "AGE-SECRET-KEY-"):
			open, err := age.ParseX25519Identity(line)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", path, err)
			}
			id.open = open
		case strings.HasPrefix(line, signPrefix):
			seed, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(line, signPrefix))
			if err != nil || len(seed) != ed25519.SeedSize {
				return nil, fmt.Errorf("%s: the signing key cannot be read", path)
			}
			id.sign = ed25519.NewKeyFromSeed(seed)
		}
	}
	if id.sign == nil || id.open == nil {
		return nil, fmt.Errorf("%s is no identity", path)
	}
	return id, nil
}

// create makes new keys, as they stand in the file.
func create() ([]byte, error) {
	_, sign, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	open, err := age.GenerateX25519Identity()
	if err != nil {
		return nil, err
	}
	return fmt.Appendf(nil, "# Who you are to others, in Brick Row. Keep it to yourself.\n%s\n%s%s\n", open,
		signPrefix, base64.StdEncoding.EncodeToString(sign.Seed())), nil
}

// Public is what others may know.
func (i *Identity) Public() Public {
	return Public{publicPrefix + base64.StdEncoding.EncodeToString(i.sign.Public().(ed25519.PublicKey)),
		i.open.Recipient().String()}
}

// Sign signs data.
func (i *Identity) Sign(data []byte) string {
	return base64.StdEncoding.EncodeToString(ed25519.Sign(i.sign, data))
}

func decodeKey(key string) (ed25519.PublicKey, error) {
	b, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(key, publicPrefix))
	if err != nil || len(b) != ed25519.PublicKeySize {
		return nil, fmt.Errorf("'%s' is no signing key", key)
	}
	return b, nil
}

// Verify reports whether data was signed with a key.
func Verify(key string, data []byte, signature string) bool {
	k, err := decodeKey(key)
	if err != nil {
		return false
	}
	s, err := base64.StdEncoding.DecodeString(signature)
	return err == nil && ed25519.Verify(k, data, s)
}

// Seal encrypts data so that any of the recipients can open it.
func Seal(data []byte, recipients []string) (string, error) {
	var to []age.Recipient
	for _, r := range recipients {
		parsed, err := age.ParseX25519Recipient(r)
		if err != nil {
			return "", fmt.Errorf("'%s' is no recipient: %w", r, err)
		}
		to = append(to, parsed)
	}
	var out bytes.Buffer
	w, err := age.Encrypt(&out, to...)
	if err != nil {
		return "", err
	}
	_, err = w.Write(data)
	err = errors.Join(err, w.Close()) // what is sealed is complete only then
	return base64.StdEncoding.EncodeToString(out.Bytes()), err
}

// ErrNotForMe says that something is sealed to others.
var ErrNotForMe = errors.New("it is sealed to others")

// Open opens what was sealed.
func (i *Identity) Open(sealed string) ([]byte, error) {
	b, err := base64.StdEncoding.DecodeString(sealed)
	if err != nil {
		return nil, err
	}
	r, err := age.Decrypt(bytes.NewReader(b), i.open)
	var none *age.NoIdentityMatchError
	if errors.As(err, &none) {
		return nil, ErrNotForMe
	}
	if err != nil {
		return nil, err
	}
	return io.ReadAll(r)
}

// Caller is who asks, as a cloud is told: user@host.
func Caller() string {
	if host := Host(); host != "" {
		return User() + "@" + host
	}
	return User()
}

// Host is the name of the machine; "" where it has none.
func Host() string {
	host, err := os.Hostname()
	if err != nil {
		return ""
	}
	return host
}

// User is the name of the user of this process, as the machine knows it.
func User() string {
	u, err := user.Current()
	if err != nil {
		return "somebody"
	}
	return strings.Map(func(r rune) rune { // it is printed
		if unicode.IsControl(r) {
			return -1
		}
		return r
	}, u.Username)
}
