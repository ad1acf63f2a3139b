// Package secrets keeps what accounts are signed in with, encrypted by a key that is not in the
// database: whoever has the records alone can sign in nowhere.
package secrets

import (
	"crypto/cipher"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/zeebo/blake3"
	"golang.org/x/crypto/chacha20poly1305"

	"reshard/internal/core/fault"
)

// Variable is what the key may be given in instead of the file: 32 bytes in base64.
const Variable = "RESHARD_SECRETS_KEY"

// File is the name of the file with the key, in the service's data folder.
const File = "secrets.key"

// Keeper seals and opens. It is safe for concurrent use.
type Keeper struct {
	aead cipher.AEAD
	// mark is what the key is known by, without telling it.
	mark [markSize]byte
}

// A sealed secret is a version, the key's mark, a nonce, and what XChaCha20-Poly1305 gives.
const (
	version  = 1
	markSize = 8
)

// Open gives the keeper of a service. The key comes from the variable, or from the file, which
// is made when there is none. made says that it was made just now.
func Open(data string) (k *Keeper, made bool, err error) {
	if text := os.Getenv(Variable); text != "" {
		k, err := parse(text)
		return k, false, fault.Wrap(fault.Invalid, "read", "the key of "+Variable, err)
	}
	file := filepath.Join(data, File)
	text, err := os.ReadFile(file)
	if err == nil {
		k, err := parse(string(text))
		return k, false, fault.Wrap(fault.Invalid, "read", file, err)
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return nil, false, fault.Wrap(fault.Refused, "read", file, err)
	}
	key := make([]byte, chacha20poly1305.KeySize)
	if _, err := rand.Read(key); err != nil {
		return nil, false, fault.Wrap(fault.Internal, "make", file, err)
	}
	out := base64.StdEncoding.EncodeToString(key)
	if err := write(file, out+"\n"); err != nil {
		return nil, false, fault.Wrap(fault.Refused, "make", file, err)
	}
	k, err = parse(out)
	return k, true, err
}

// write makes a file that is whole or not there, and that only the service may read.
func write(file, text string) error {
	f, err := os.CreateTemp(filepath.Dir(file), File+".")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name()) //nolint:errcheck // it has another name by then
	_, err = f.WriteString(text)
	if err = errors.Join(err, f.Chmod(0o600), f.Sync(), f.Close()); err != nil {
		return err
	}
	return os.Rename(f.Name(), file)
}

func parse(text string) (*Keeper, error) {
	key, err := base64.StdEncoding.DecodeString(strings.TrimSpace(text))
	if err != nil || len(key) != chacha20poly1305.KeySize {
		return nil, fault.New(fault.Invalid, "", "", "it is no key: 32 bytes in base64")
	}
	aead, err := chacha20poly1305.NewX(key)
	if err != nil {
		return nil, err
	}
	k := &Keeper{aead: aead}
	sum := blake3.Sum256(append([]byte("reshard key mark\x00"), key...))
	copy(k.mark[:], sum[:])
	return k, nil
}

// Seal encrypts a secret for a purpose, which Open must be told again: what was sealed for one
// host does not open as that of another.
func (k *Keeper) Seal(secret []byte, purpose string) ([]byte, error) {
	nonce := make([]byte, chacha20poly1305.NonceSizeX)
	if _, err := rand.Read(nonce); err != nil {
		return nil, fault.Wrap(fault.Internal, "seal", purpose, err)
	}
	out := append([]byte{version}, k.mark[:]...)
	out = append(out, nonce...)
	return k.aead.Seal(out, nonce, secret, []byte(purpose)), nil
}

// Open opens what Seal gave. Refused: it was sealed with another key, or is damaged.
func (k *Keeper) Open(sealed []byte, purpose string) ([]byte, error) {
	bad := func(what string) ([]byte, error) {
		return nil, fault.New(fault.Refused, "open the secrets of", purpose, "%s", what).
			With("Bring the key back that they were sealed with (" + File + " in the service's data folder, or " +
				Variable +
				"), or give the password or key anew: reshard hosts change " + purpose + " --password.")
	}
	head := 1 + markSize + chacha20poly1305.NonceSizeX
	switch {
	case len(sealed) < head || sealed[0] != version:
		return bad("they are damaged")
	case string(sealed[1:1+markSize]) != string(k.mark[:]):
		return bad("they were sealed with another key than the service has now")
	}
	secret, err := k.aead.Open(nil, sealed[1+markSize:head], sealed[head:], []byte(purpose))
	if err != nil {
		return bad("they are damaged")
	}
	return secret, nil
}
