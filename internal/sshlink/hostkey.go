package sshlink

import (
	"bytes"
	"encoding/base64"
	"net"
	"strings"

	"golang.org/x/crypto/ssh"

	"reshard/internal/core/fault"
)

// KeyError says that a host has shown a key that nobody has accepted: the first one, or
// another than the accepted one. Nothing was sent to it but a greeting.
type KeyError struct {
	// Fingerprint is of the key that was shown, Accepted of the one that was expected; "": none
	// has been accepted yet. Both are as ssh-keygen -l shows them.
	Fingerprint, Accepted string
	// Key is the key that was shown, as account.Account.Key has it.
	Key string
}

func (e *KeyError) Error() string {
	if e.Accepted == "" {
		return "the host's key has not been accepted yet: " + e.Fingerprint
	}
	return "the host shows another key (" + e.Fingerprint + ") than the accepted one (" + e.Accepted + ")"
}

// fault gives the error its class and its words. A key that changed may be the provider's
// doing, and then a person accepts it; until then nothing is known of the host.
func (e *KeyError) fault(name string) error {
	f := &fault.Error{Code: fault.Unreachable, Op: "sign in to", Path: name, What: e.Error(), Err: e}
	if e.Accepted == "" {
		return f.With("Compare the fingerprint with the one that the host's owner gives, then accept it: " +
			"reshard hosts change " + name + " --accept-key " + e.Fingerprint + ".")
	}
	return f.With("Somebody may stand between you and the host, or it was set up anew. Ask its owner for the " +
		"fingerprint. " +
		"When it is the new one, accept it: reshard hosts change " + name + " --accept-key " + e.Fingerprint + ".")
}

// Fingerprint gives a key's fingerprint; "" for what is no key.
func Fingerprint(key string) string {
	k, err := parseKey(key)
	if err != nil {
		return ""
	}
	return ssh.FingerprintSHA256(k)
}

func parseKey(line string) (ssh.PublicKey, error) {
	_, data, _ := strings.Cut(strings.TrimSpace(line), " ")
	raw, err := base64.StdEncoding.DecodeString(data)
	if err != nil {
		return nil, err
	}
	return ssh.ParsePublicKey(raw)
}

// keyLine writes a key as account.Account.Key has it.
func keyLine(k ssh.PublicKey) string {
	return k.Type() + " " + base64.StdEncoding.EncodeToString(k.Marshal())
}

// keyCheck is the callback that knows a host by its accepted key, and the algorithms to ask
// for: without them a host with keys of several kinds may show another kind than the accepted
// one, which would look like a changed key.
func keyCheck(accepted string) (ssh.HostKeyCallback, []string, error) {
	if accepted == "" {
		return func(_ string, _ net.Addr, k ssh.PublicKey) error {
			return &KeyError{Fingerprint: ssh.FingerprintSHA256(k), Key: keyLine(k)}
		}, nil, nil
	}
	want, err := parseKey(accepted)
	if err != nil {
		return nil, nil, fault.New(fault.Internal, "read", "the accepted host key", "%v", err)
	}
	algorithms := []string{want.Type()}
	if want.Type() == ssh.KeyAlgoRSA {
		algorithms = []string{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256}
	}
	return func(_ string, _ net.Addr, k ssh.PublicKey) error {
		if bytes.Equal(k.Marshal(), want.Marshal()) {
			return nil
		}
		return &KeyError{
			Fingerprint: ssh.FingerprintSHA256(k), Key: keyLine(k), Accepted: ssh.FingerprintSHA256(want),
		}
	}, algorithms, nil
}
