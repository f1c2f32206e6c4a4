// Package seal keeps what is secret unreadable for whoever has not the key.
package seal

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"brickrow/internal/tosca"
)

// Box seals with one key.
type Box struct {
	key []byte
	gcm cipher.AEAD
}

// New makes a box with a key of 32 bytes.
func New(key []byte) (*Box, error) {
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	gcm, err := cipher.NewGCM(block)
	return &Box{key, gcm}, err
}

// Open opens the box of a folder, whose key is made where it is missing. The folder has to be there.
func Open(dir string) (*Box, error) {
	path := filepath.Join(dir, "key")
	key, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		if err := makeKey(path); err != nil {
			return nil, err
		}
		key, err = os.ReadFile(path)
	}
	if err != nil {
		return nil, err
	}
	raw, err := hex.DecodeString(strings.TrimSpace(string(key)))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	b, err := New(raw)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return b, nil
}

// KeyOf is the key of a folder; where it has none yet it is a new one, which is not kept.
func KeyOf(dir string) ([]byte, error) {
	text, err := os.ReadFile(filepath.Join(dir, "key"))
	if errors.Is(err, fs.ErrNotExist) {
		fresh := make([]byte, 32)
		_, err := rand.Read(fresh)
		return fresh, err
	}
	if err != nil {
		return nil, err
	}
	return hex.DecodeString(strings.TrimSpace(string(text)))
}

// Random is a box with a key that nobody has.
func Random() *Box {
	key := make([]byte, 32)
	_, _ = rand.Read(key) // it does not fail
	b, err := New(key)
	if err != nil {
		panic(err) // the key is long enough
	}
	return b
}

// makeKey makes a key file; of several who do so at once, the first one's stays.
func makeKey(path string) error {
	fresh := make([]byte, 32)
	if _, err := rand.Read(fresh); err != nil {
		return err
	}
	f, err := os.OpenFile(path+"."+hex.EncodeToString(fresh[:4]), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.WriteString(hex.EncodeToString(fresh))
	if err = errors.Join(err, f.Close()); err == nil {
		err = os.Link(f.Name(), path)
	}
	if errors.Is(err, fs.ErrExist) {
		err = nil
	}
	return errors.Join(os.Remove(f.Name()), err)
}

// Seal encrypts a text.
func (b *Box) Seal(text []byte) ([]byte, error) {
	nonce := make([]byte, b.gcm.NonceSize())
	if _, err := rand.Read(nonce); err != nil {
		return nil, err
	}
	return b.gcm.Seal(nonce, nonce, text, nil), nil
}

// Unseal is the reverse of Seal.
func (b *Box) Unseal(sealed []byte) ([]byte, error) {
	if len(sealed) < b.gcm.NonceSize() {
		return nil, errors.New("what is sealed is too short")
	}
	return b.gcm.Open(nil, sealed[:b.gcm.NonceSize()], sealed[b.gcm.NonceSize():], nil)
}

// SealJSON encrypts anything that can be written as JSON; what comes out is text of one line.
func (b *Box) SealJSON(x any) (string, error) {
	text, err := json.Marshal(x)
	if err != nil {
		return "", err
	}
	sealed, err := b.Seal(text)
	return hex.EncodeToString(sealed), err
}

// UnsealJSON is the reverse of SealJSON. Numbers stay as they are written.
func (b *Box) UnsealJSON(sealed string, into any) error {
	raw, err := hex.DecodeString(strings.TrimSpace(sealed))
	if err != nil {
		return errors.New("what is sealed is broken")
	}
	text, err := b.Unseal(raw)
	if err != nil {
		return err
	}
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	return d.Decode(into)
}

// Print is what stands for a secret where it is shown that there is one. Only who has the key can
// tell whether a guess is right.
func (b *Box) Print(secret string) string {
	h := hmac.New(sha256.New, b.key)
	h.Write([]byte("print\n" + secret))
	return "fingerprint:" + hex.EncodeToString(h.Sum(nil))[:24]
}

// Shown is a value with prints in the place of its secrets.
func (b *Box) Shown(v tosca.Value) tosca.Value {
	return tosca.ReplaceSecrets(v, func(s tosca.Secret) tosca.Value { return tosca.String(b.Print(tosca.Show(s.Value))) })
}
