package sshlink

import (
	"golang.org/x/crypto/ssh"

	"reshard/internal/core/account"
	"reshard/internal/core/fault"
)

// Check is Invalid for secrets that cannot be used: a private key that is none, or whose
// passphrase does not open it.
func Check(s account.Secrets) error {
	if s.PrivateKey == "" {
		return nil
	}
	_, err := signer(s)
	return err
}

func signer(s account.Secrets) (ssh.Signer, error) {
	pem := []byte(s.PrivateKey)
	if s.Passphrase != "" {
		signer, err := ssh.ParsePrivateKeyWithPassphrase(pem, []byte(s.Passphrase))
		if err == nil {
			return signer, nil
		}
	}
	signer, err := ssh.ParsePrivateKey(pem) // also one that has no passphrase although one was given
	switch err.(type) {
	case nil:
		return signer, nil
	case *ssh.PassphraseMissingError:
		if s.Passphrase != "" {
			return nil, fault.New(fault.Invalid, "read", "the private key", "its passphrase is another one")
		}
		return nil, fault.New(fault.Invalid, "read", "the private key", "it has a passphrase").
			With("Give the passphrase with the key.")
	}
	return nil, fault.New(fault.Invalid, "read", "the private key", "it is no private key that is known here").
		With("Give the file that ssh-keygen has made, the one without .pub.")
}
