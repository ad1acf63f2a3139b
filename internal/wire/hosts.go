package wire

import (
	"time"

	"reshard/internal/core/account"
)

// Host is a machine or account where servers live.
type Host struct {
	Name string `json:"name"`
	Kind string `json:"kind" enum:"local,ssh,ftp"`
	// how FTP is encrypted; none leaves the password and all files readable on the way
	TLS account.TLS `json:"tls,omitempty" enum:"explicit,implicit,none"`
	// where it is, for a host elsewhere
	Address string `json:"address,omitempty"`
	Port    int    `json:"port,omitempty"`
	User    string `json:"user,omitempty"`
	// where the account's servers are; left out: where one arrives after signing in
	Folder string `json:"folder,omitempty"`
	// of the host's key, or over FTP its certificate, that was accepted; left out over FTP where
	// roots vouch for it
	Fingerprint string `json:"fingerprint,omitempty"`
	// what it is signed in with; never the secrets themselves
	SignIn       []string `json:"signIn,omitempty" enum:"password,key,agent"`
	Sessions     int      `json:"sessions,omitempty"`
	BytesASecond int64    `json:"bytesASecond,omitempty"`
	// its provider's own interface, when one is known
	Provider *Provider `json:"provider,omitempty"`
	// how many servers are on it
	Servers int `json:"servers"`
	// why it cannot be used, when the service knows
	Trouble string `json:"trouble,omitempty"`
	// what a check has found; left out: none was made
	Found *account.Findings `json:"found,omitempty"`
	// what that means for changeovers, in words
	Says []string `json:"says,omitempty"`
}

// SignIn is what an account is signed in with. What is left out stays as it is; "" forgets.
type SignIn struct {
	Password *string `json:"password,omitempty"`
	// private key in PEM, as ssh-keygen writes it
	PrivateKey *string `json:"privateKey,omitempty"`
	Passphrase *string `json:"passphrase,omitempty"`
	// the SSH agent that the service was started with (serve --ssh-agent)
	Agent *bool `json:"agent,omitempty"`
}

// NewHost is what to record as a host.
type NewHost struct {
	Name string `json:"name" pattern:"^[a-z0-9][a-z0-9-]{0,39}$"`
	// as its provider shows it, such as sftp://user@host.example:22/folder; ftp:// and ftps:// are
	// FTP, with TLS begun on the connection or spoken from the first byte
	Address string `json:"address"`
	// user, when the address names none
	User   string `json:"user,omitempty"`
	Folder string `json:"folder,omitempty"`
	SignIn SignIn `json:"signIn"`
	// how FTP is encrypted, when not as the address says
	TLS account.TLS `json:"tls,omitempty" enum:"explicit,implicit,none"`
	// certificates that vouch for the host's, in PEM; left out: those of the service's system
	Roots string `json:"roots,omitempty"`
	// fingerprint of the host's key or certificate, which a person has compared. Without it the
	// answer is what the host shows, and nothing is signed in to
	AcceptKey string `json:"acceptKey,omitempty"`
	// sessions on a connection at most, and bytes a second
	Sessions     int   `json:"sessions,omitempty" minimum:"0" maximum:"64"`
	BytesASecond int64 `json:"bytesASecond,omitempty" minimum:"0"`
}

// HostChange is what to change of a host; what is left out stays.
type HostChange struct {
	Address *string `json:"address,omitempty"`
	User    *string `json:"user,omitempty"`
	Folder  *string `json:"folder,omitempty"`
	SignIn  SignIn  `json:"signIn,omitzero"`
	// how FTP is encrypted, and the certificates that vouch for the host's
	TLS          *account.TLS `json:"tls,omitempty" enum:"explicit,implicit,none"`
	Roots        *string      `json:"roots,omitempty"`
	AcceptKey    string       `json:"acceptKey,omitempty"`
	Sessions     *int         `json:"sessions,omitempty" minimum:"0" maximum:"64"`
	BytesASecond *int64       `json:"bytesASecond,omitempty" minimum:"0"`
}

// Provider is a hosting provider's own interface, as it is known of a host.
type Provider struct {
	// the provider's name, as its description has it
	Title string `json:"title,omitempty"`
	// where it is: scheme, host and port
	Origin string `json:"origin"`
	User   string `json:"user,omitempty"`
	// it may be an address of a private network or of the service's machine
	Private bool `json:"private,omitempty"`
	// why it cannot be used, when the service knows
	Trouble string `json:"trouble,omitempty"`
}

// NewProvider is what to record of a provider's own interface.
type NewProvider struct {
	// the provider description, in YAML; left out: with a secret only that is changed, else what is
	// known is forgotten
	Description string `json:"description,omitempty" maxLength:"65536"`
	// where it is: scheme, host and port; nothing is sent to any other
	Origin string `json:"origin,omitempty"`
	User   string `json:"user,omitempty"`
	// password, key or token; left out: it stays as it is
	Secret *string `json:"secret,omitempty"`
	// allow an address of a private network or of the service's machine
	Private bool `json:"private,omitempty"`
}

// Tried is one thing that was tried at a provider, and what was seen.
type Tried struct {
	What string `json:"what"`
	Seen string `json:"seen"`
	OK   bool   `json:"ok"`
	Next string `json:"next,omitempty"`
}

// Slots are a provider's own backups of a server. They are the provider's: Reshard sees what it says of them,
// and has checked none of them.
type Slots struct {
	Provider string `json:"provider"`
	// how many there may be; 0: nobody knows
	Allowance int          `json:"allowance"`
	Backups   []SlotBackup `json:"backups" nullable:"false"`
	// whether one can be made, and removed, from here
	CanMake   bool `json:"canMake"`
	CanRemove bool `json:"canRemove"`
}

// Full reports whether there is no room for another one.
func (s Slots) Full() bool { return s.Allowance > 0 && len(s.Backups) >= s.Allowance }

// SlotBackup is one of them, as its provider tells of it.
type SlotBackup struct {
	Name string `json:"name"`
	// when it was made; left out: it does not say
	MadeAt *time.Time `json:"madeAt,omitempty"`
	// its size in bytes; -1: it does not say
	Bytes int64 `json:"bytes"`
}
