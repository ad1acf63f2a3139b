// Package account is a user's account on another machine: where it is, what it is signed in
// with, and what a check has found that can be done there.
package account

import (
	"path"
	"strconv"
	"strings"

	"reshard/internal/core/fault"
)

// Protocol is how an account's files are reached.
type Protocol string

// The protocols. SFTP is what an account without one means.
const (
	SFTP Protocol = "sftp"
	FTP  Protocol = "ftp"
)

// TLS is how FTP is encrypted.
type TLS string

// The ways: Explicit begins TLS on the connection (RFC 4217), Implicit speaks it from the first
// byte, and NoTLS leaves all readable, the password too. Explicit is what "" means.
const (
	Explicit TLS = "explicit"
	Implicit TLS = "implicit"
	NoTLS    TLS = "none"
)

// Account is a user's account on a host, and how much of it may be used.
type Account struct {
	// Name is of the host as recorded, for messages.
	Name string `json:"-"`
	// Protocol is how its files are reached; "" is SFTP.
	Protocol Protocol `json:"protocol,omitempty"`
	// TLS is how FTP is encrypted, Roots the certificates that vouch for the host's, in PEM; "" are
	// the system's.
	TLS   TLS    `json:"tls,omitempty"`
	Roots string `json:"roots,omitempty"`
	// Host is a name or an address, IPv6 without brackets. Port 0 is the protocol's own.
	Host string `json:"host"`
	Port int    `json:"port,omitempty"`
	User string `json:"user"`
	// Folder is where the account's servers are; "" where one arrives after signing in.
	Folder string `json:"folder,omitempty"`
	// Key is what the host is known by: over SSH its accepted public key as a line of
	// authorized_keys (sshd(8)), type and base64; over FTP "x509" and the SHA-256 fingerprint of its
	// accepted certificate, or "roots" where those vouch for it, or "none" without TLS. "" while no
	// person has accepted one: nothing is signed in to then.
	Key     string  `json:"key,omitempty"`
	Secrets Secrets `json:"-"`
	// Sessions is how many channels one connection may have, over FTP how many connections there
	// may be; 0: MostSessions. BytesASecond
	// bounds what goes over the line each way, 0: nothing does.
	Sessions     int   `json:"sessions,omitempty"`
	BytesASecond int64 `json:"bytesASecond,omitempty"`
}

// MostSessions is how many sessions are opened on a connection at once: OpenSSH allows ten
// (sshd_config(5), MaxSessions), and others of the account want some too.
const MostSessions = 8

// Shown is what a host shows of itself, whom nobody has accepted yet.
type Shown struct {
	// Key is what it would be known by (Account.Key), Fingerprint what a person has to accept; "": roots vouch
	// for it, or none is wanted.
	Key, Fingerprint string
	// Doubt is why no roots vouch for a certificate.
	Doubt error
}

// Secrets are what an account is signed in with. They print as how they are made up.
type Secrets struct {
	Password   string `json:"password,omitempty"`
	PrivateKey string `json:"privateKey,omitempty"` // PEM, as ssh-keygen(1) writes it
	Passphrase string `json:"passphrase,omitempty"` // of PrivateKey
	// Agent is OwnAgent when the service's own agent (ssh-agent(1)) signs in; earlier builds kept the path of a socket.
	Agent string `json:"agent,omitempty"`
	// Provider is what the provider's own interface is signed in to with.
	Provider string `json:"provider,omitempty"`
}

// OwnAgent is the agent that the service was started with.
const OwnAgent = "own"

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

// String, GoString and MarshalText withhold what is secret, wherever it is printed or logged.
// Whoever keeps secrets marshals them as another type.
func (s Secrets) String() string               { return "[secrets: " + strings.Join(s.Ways(), ", ") + "]" }
func (s Secrets) GoString() string             { return s.String() }
func (s Secrets) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// Address is where the account's host listens: HOST:PORT, an IPv6 address in brackets.
func (a Account) Address() string {
	port := a.Port
	if port == 0 {
		port = a.defaultPort()
	}
	host := a.Host
	if strings.ContainsRune(host, ':') {
		host = "[" + host + "]"
	}
	return host + ":" + strconv.Itoa(port)
}

// Path gives a folder's name there: one that is not whole begins at the account's folder, "." is where
// one arrives.
func (a Account) Path(name string) string {
	if name == "" || !path.IsAbs(name) {
		name = path.Join(a.Folder, name)
	}
	if name == "" {
		return "."
	}
	return name
}

// defaultPort is where hosts listen when an address names no port (IANA's registry).
func (a Account) defaultPort() int {
	switch {
	case a.Protocol != FTP:
		return 22
	case a.TLS == Implicit:
		return 990
	}
	return 21
}

// String names the account without its secrets.
func (a Account) String() string { return a.User + "@" + a.Address() }

// Parse reads an address as providers show it: "sftp://USER@HOST:PORT/FOLDER", "ftp://…", "ftps://…"
// (TLS from the first byte), "ftpes://…" (TLS begun on the connection), or without the scheme, the
// user, the port or the folder. The user ends at the last "@", since names of users hold some; an IPv6
// address with a port stands in brackets (RFC 3986).
func Parse(text string) (a Account, err error) {
	bad := func(what string) (Account, error) {
		return Account{}, fault.New(fault.Invalid, "read", "the address", "%s", what).
			With("An address looks like sftp://user@host.example:22/folder.")
	}
	rest := strings.TrimSpace(text)
	if scheme, after, ok := strings.Cut(rest, "://"); ok {
		switch strings.ToLower(scheme) {
		case "sftp", "ssh":
		case "ftp":
			a.Protocol = FTP
		case "ftps":
			a.Protocol, a.TLS = FTP, Implicit
		case "ftpes":
			a.Protocol, a.TLS = FTP, Explicit
		default:
			return bad("it is one of " + strconv.Quote(
				scheme) + ", and hosts are reached by sftp, ssh, ftp or ftps here")
		}
		rest = after
	}
	// A folder begins at the first slash after the last "@": users may hold slashes too.
	at := strings.LastIndexByte(rest, '@')
	if slash := strings.IndexByte(rest[at+1:], '/'); slash >= 0 {
		a.Folder = rest[at+1+slash:]
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
	return a, nil
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
