// Package sshlink is a line to an account on another machine over SSH: dialling, signing in,
// knowing the host by its key, noticing a dead peer, and sharing one connection between all
// that goes on there. Drivers of files and of processes are made over a Link.
package sshlink

import (
	"log/slog"
	"net"
	"strconv"
	"strings"

	"golang.org/x/crypto/ssh"

	"reshard/internal/core/fault"
)

// Port is where SSH listens when an address names no port.
const Port = 22

// Account is a user's account on a host, and how much of it may be used.
type Account struct {
	Name string // of the host as recorded, for messages
	Host string // a name or an address, IPv6 without brackets
	Port int
	User string
	// Key is the host's accepted public key as a line of authorized_keys (sshd(8)): type and
	// base64. "" while no person has accepted one: nothing is signed in to then.
	Key     string
	Secrets Secrets
	// Sessions is how many channels one connection may have, 0: MostSessions. BytesASecond
	// bounds what goes over the line each way, 0: nothing does.
	Sessions     int
	BytesASecond int64
}

// MostSessions is how many sessions are opened on a connection at once: OpenSSH allows ten
// (sshd_config(5), MaxSessions), and others of the account want some too.
const MostSessions = 8

// Secrets are what an account is signed in with. They print as how they are made up.
type Secrets struct {
	Password   string `json:"password,omitempty"`
	PrivateKey string `json:"privateKey,omitempty"` // PEM, as ssh-keygen(1) writes it
	Passphrase string `json:"passphrase,omitempty"` // of PrivateKey
	// Agent is the socket of an agent (ssh-agent(1)) on the service's machine.
	Agent string `json:"agent,omitempty"`
}

// Ways names how an account can be signed in to, for people.
func (s Secrets) Ways() []string {
	var out []string
	for _, w := range []struct {
		has  bool
		name string
	}{{s.Password != "", "password"}, {s.PrivateKey != "", "key"}, {s.Agent != "", "agent"}} {
		if w.has {
			out = append(out, w.name)
		}
	}
	return out
}

// String, GoString and LogValue withhold what is secret.
func (s Secrets) String() string       { return "[secrets: " + strings.Join(s.Ways(), ", ") + "]" }
func (s Secrets) GoString() string     { return s.String() }
func (s Secrets) LogValue() slog.Value { return slog.StringValue(s.String()) }

// Check is Invalid for secrets that cannot be used: a key that is none, or whose passphrase
// does not open it.
func (s Secrets) Check() error {
	if s.PrivateKey == "" {
		return nil
	}
	_, err := s.signer()
	return err
}

func (s Secrets) signer() (ssh.Signer, error) {
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

// Address is where the account's host listens, as net.Dial takes it.
func (a Account) Address() string {
	port := a.Port
	if port == 0 {
		port = Port
	}
	return net.JoinHostPort(a.Host, strconv.Itoa(port))
}

// String names the account without its secrets.
func (a Account) String() string { return a.User + "@" + a.Address() }

// ParseAddress reads an address as providers show it: "sftp://USER@HOST:PORT/FOLDER", or
// without the scheme, the user, the port or the folder. The user ends at the last "@", since
// names of users hold some; an IPv6 address with a port stands in brackets (RFC 3986).
func ParseAddress(text string) (a Account, folder string, err error) {
	bad := func(what string) (Account, string, error) {
		return Account{}, "", fault.New(fault.Invalid, "read", "the address", "%s", what).
			With("An address looks like sftp://user@host.example:22/folder.")
	}
	rest := strings.TrimSpace(text)
	if scheme, after, ok := strings.Cut(rest, "://"); ok {
		if s := strings.ToLower(scheme); s != "sftp" && s != "ssh" {
			return bad("it is one of " + strconv.Quote(scheme) + ", and hosts are reached by sftp or ssh here")
		}
		rest = after
	}
	// A folder begins at the first slash after the last "@": users may hold slashes too.
	at := strings.LastIndexByte(rest, '@')
	if slash := strings.IndexByte(rest[at+1:], '/'); slash >= 0 {
		folder = rest[at+1+slash:]
		rest = rest[:at+1+slash]
	}
	if at >= 0 {
		a.User = rest[:at]
		rest = rest[at+1:]
	}
	if user, _, ok := strings.Cut(a.User, ":"); ok {
		return bad("it holds a password, which would be kept in histories and logs; give " + strconv.Quote(user) +
			" alone, and the password where it is asked for")
	}
	port := ""
	switch {
	case strings.HasPrefix(rest, "["):
		end := strings.IndexByte(rest, ']')
		if end < 0 {
			return bad("its bracket does not end")
		}
		a.Host, port = rest[1:end], rest[end+1:]
	case strings.Count(rest, ":") > 1: // an IPv6 address by itself
		a.Host = rest
	default:
		if i := strings.IndexByte(rest, ':'); i >= 0 {
			rest, port = rest[:i], rest[i:]
		}
		a.Host = rest
	}
	if a.Port, err = portOf(port); err != nil {
		return bad("its port is none: " + strconv.Quote(port))
	}
	if a.Host == "" || strings.ContainsAny(a.Host, " /\\\t\n\x00") {
		return bad("it names no host")
	}
	return a, folder, nil
}

func portOf(text string) (int, error) {
	if text == "" || text == ":" {
		return 0, nil
	}
	n, err := strconv.ParseUint(strings.TrimPrefix(text, ":"), 10, 16)
	if err != nil || n == 0 || text[0] != ':' {
		return 0, strconv.ErrSyntax
	}
	return int(n), nil
}
