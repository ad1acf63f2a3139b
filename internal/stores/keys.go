package stores

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"filippo.io/age"

	"reshard/internal/core/fault"
)

// KeyFile is the file of the keys that stores are encrypted with, in the service's data folder: age
// identities (age-encryption.org/v1), the newest first. Whoever has it can read the stores, also without
// Reshard; without it nobody can.
const KeyFile = "stores.keys"

// keys are the identities of a service. They are safe for concurrent use.
type keys struct {
	file string

	mu  sync.Mutex
	all []*age.X25519Identity
}

// openKeys reads the keys; there may be none yet.
func openKeys(data string) (*keys, error) {
	k := &keys{file: filepath.Join(data, KeyFile)}
	text, err := os.ReadFile(k.file)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return k, nil
	case err != nil:
		return nil, fault.Wrap(fault.Refused, "read", k.file, err)
	}
	list, err := age.ParseIdentities(bytes.NewReader(text))
	if err != nil {
		return nil, fault.New(fault.Invalid, "read", k.file, "it holds no keys of age: %v", err)
	}
	for _, id := range list {
		x, ok := id.(*age.X25519Identity)
		if !ok {
			return nil, fault.New(fault.Invalid, "read", k.file, "one of its keys is of another kind than X25519")
		}
		k.all = append(k.all, x)
	}
	return k, nil
}

// current gives the key that is encrypted with, which is made when there is none; made says so.
func (k *keys) current() (id *age.X25519Identity, made bool, err error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if len(k.all) > 0 {
		return k.all[0], false, nil
	}
	err = k.add()
	if err != nil {
		return nil, false, err
	}
	return k.all[0], true, nil
}

// rotate makes a new key, which counts from now on. The others stay: what was encrypted with them is read
// with them.
func (k *keys) rotate() error {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.add()
}

func (k *keys) add() error {
	id, err := age.GenerateX25519Identity()
	if err != nil {
		return fault.Wrap(fault.Internal, "make", k.file, err)
	}
	all := append([]*age.X25519Identity{id}, k.all...)
	var b strings.Builder
	b.WriteString("# Keys that Reshard's stores are encrypted with, the newest first. Keep a copy of this file " +
		"elsewhere:\n" +
		"# without it nobody can read them.\n")
	for _, one := range all {
		fmt.Fprintf(&b, "# public key: %s\n%s\n", one.Recipient(), one)
	}
	if err := writeKeys(k.file, b.String()); err != nil {
		return fault.Wrap(fault.Refused, "write", k.file, err)
	}
	k.all = all
	return nil
}

// writeKeys makes a file that is whole or as it was, and that only the service may read.
func writeKeys(file, text string) error {
	f, err := os.CreateTemp(filepath.Dir(file), KeyFile+".")
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

// seal encrypts what is written to it, for one key, until it is closed.
func seal(to io.Writer, id *age.X25519Identity) (io.WriteCloser, error) {
	w, err := age.Encrypt(to, id.Recipient())
	return w, fault.Wrap(fault.Internal, "encrypt", "a pack", err)
}

var errNoKey = errors.New("its key is not here")

// open decrypts with whichever key it takes, and says which that is. Code Refused: none of them; Damaged: it is
// not what was written.
func (k *keys) open(to io.Writer, from io.Reader) (key string, err error) {
	k.mu.Lock()
	ids := make([]age.Identity, len(k.all))
	for i, id := range k.all {
		ids[i] = hit{id, &key}
	}
	k.mu.Unlock()
	refused := &fault.Error{
		Code: fault.Refused, Op: "decrypt", Path: "a pack", What: "none of the keys in " + k.file + " opens it",
		Next: "Bring the file back that you have kept elsewhere, and start the service again.", Err: errNoKey,
	}
	if len(ids) == 0 {
		return "", refused
	}
	r, err := age.Decrypt(from, ids...)
	var none *age.NoIdentityMatchError
	if errors.As(err, &none) {
		return "", refused
	}
	if err == nil {
		_, err = io.Copy(to, r)
	}
	var own *fs.PathError
	switch {
	case errors.As(err, &own): // of the file that it goes to
		return "", err
	case err != nil:
		return "", fault.New(fault.Damaged, "decrypt", "a pack", "it is not what was written: %v", err)
	}
	return key, nil
}

// has tells which keys are here, by their public part.
func (k *keys) has(public string) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	return slices.ContainsFunc(k.all, func(id *age.X25519Identity) bool { return id.Recipient().String() == public })
}
