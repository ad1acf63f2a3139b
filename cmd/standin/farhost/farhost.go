// Package farhost is another machine for tests, benchmarks and the demo: OpenSSH's own server,
// in the shapes in which people rent accounts, and a line to it that can be long, stall and
// break.
package farhost

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"golang.org/x/crypto/ssh"

	"reshard/internal/core/account"
)

// Where Debian puts the programs.
const (
	sshd       = "/usr/sbin/sshd"
	sftpServer = "/usr/lib/openssh/sftp-server"
)

// Shape is how an account may be used.
type Shape struct {
	// FilesOnly: no commands, as with most rented accounts.
	FilesOnly bool
	// Root is what the account sees as "/" (needs root): a folder that is root's own, in which
	// the account cannot write itself. "" is the machine's own.
	Root string
	// ReadOnly: nothing can be written.
	ReadOnly bool
	// NoPosixRename: a rename does not replace a file.
	NoPosixRename bool
	// NoCopyData: a file cannot be copied there by a request.
	NoCopyData bool
	// Sessions is how many channels a connection may have; 0: ten.
	Sessions int
	// Programs is a folder whose programs are found before others; "" is none.
	Programs string
	// Tenant: an account of its own signs in, which owns nothing (needs root). It has the number
	// TenantID, and exists on this machine only.
	Tenant bool
	// Password lets the tenant in, instead of a key; Expired: it has to be changed first.
	Password string
	Expired  bool
}

// TenantID is the number of the account and the group of a tenant.
const TenantID = 61_234

// apart reports whether the machine needs files of its own where others have theirs.
func (s Shape) apart() bool { return s.Tenant || s.Root != "" }

// Host is a running machine.
type Host struct {
	Port int
	User string
	// HostKey is its public key and ClientKey the private key that it lets in, in PEM.
	HostKey   string
	ClientKey string

	cmd  *exec.Cmd
	said string // the file with its log
}

// Available tells whether the machine has what it takes.
func Available() bool {
	_, err := os.Stat(sshd)
	return err == nil
}

// Start starts a machine that keeps its keys and its log in dir.
func Start(dir string, s Shape) (*Host, error) {
	if !Available() {
		return nil, errors.New("there is no " + sshd + ": install openssh-server")
	}
	h := &Host{said: filepath.Join(dir, "sshd.log")}
	if s.apart() && os.Geteuid() != 0 {
		return nil, errors.New("a machine of this shape needs root")
	}
	if s.Tenant {
		h.User = "tenant"
		if err := tenantFiles(dir, s); err != nil {
			return nil, err
		}
	} else {
		me, err := user.Current()
		if err != nil {
			return nil, err
		}
		h.User = me.Username
	}
	if err := h.keys(dir); err != nil {
		return nil, err
	}
	if os.Geteuid() == 0 {
		if err := os.MkdirAll("/run/sshd", 0o755); err != nil { // sshd gives up its rights in it
			return nil, err
		}
	}
	for range 5 { // somebody else may take the port
		if err := h.start(dir, s); err == nil {
			return h, nil
		}
	}
	log, _ := os.ReadFile(h.said)
	return nil, fmt.Errorf("sshd does not start: %s", log)
}

// keys makes the machine's key and that of the one who signs in. They are kept, so that a
// machine that is started again is the same one.
func (h *Host) keys(dir string) error {
	host, err := h.key(filepath.Join(dir, "host_key"))
	if err != nil {
		return err
	}
	h.HostKey = strings.TrimSpace(string(ssh.MarshalAuthorizedKey(host)))
	client, err := h.key(filepath.Join(dir, "client_key"))
	if err != nil {
		return err
	}
	text, err := os.ReadFile(filepath.Join(dir, "client_key"))
	if err != nil {
		return err
	}
	h.ClientKey = string(text)
	return os.WriteFile(filepath.Join(dir, "authorized_keys"), ssh.MarshalAuthorizedKey(client), 0o644)
}

func (h *Host) key(file string) (ssh.PublicKey, error) {
	text, err := os.ReadFile(file)
	if err == nil {
		signer, err := ssh.ParsePrivateKey(text)
		if err != nil {
			return nil, err
		}
		return signer.PublicKey(), nil
	}
	public, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	block, err := ssh.MarshalPrivateKey(private, "")
	if err != nil {
		return nil, err
	}
	if err := os.WriteFile(file, pem.EncodeToMemory(block), 0o600); err != nil {
		return nil, err
	}
	return ssh.NewPublicKey(public)
}

// config writes sshd_config(5) for a shape.
func (h *Host) config(dir string, s Shape) error {
	server := sftpServer
	if s.Root != "" || s.FilesOnly {
		server = "internal-sftp"
	}
	if s.ReadOnly {
		server += " -R"
	}
	var denied []string
	if s.NoPosixRename {
		denied = append(denied, "posix-rename")
	}
	if s.NoCopyData {
		denied = append(denied, "copy-data")
	}
	if len(denied) > 0 {
		server += " -P " + strings.Join(denied, ",")
	}
	lines := []string{
		"Port " + fmt.Sprint(h.Port), "ListenAddress 127.0.0.1", "HostKey " + filepath.Join(dir, "host_key"),
		"AuthorizedKeysFile " + filepath.Join(dir, "authorized_keys"), "StrictModes no", "UsePAM no",
		"PasswordAuthentication " + yes(s.Password != ""), "KbdInteractiveAuthentication no", "PidFile none",
		"LogLevel ERROR",
		"PermitRootLogin yes", "MaxStartups 100:30:200", "Subsystem sftp " + server,
	}
	if s.FilesOnly {
		lines = append(lines, "ForceCommand "+server)
	}
	if s.Root != "" {
		lines = append(lines, "ChrootDirectory "+rootedAt)
	}
	if s.Password != "" {
		lines = append(lines, "AuthenticationMethods password")
	}
	// bash takes a session of this depth for none that begins here, and leaves out what the account of whoever runs
	// this does at each sign-in, which may take seconds.
	env := "SetEnv SHLVL=2"
	if s.Programs != "" {
		env += " PATH=" + s.Programs + ":/usr/local/bin:/usr/bin:/bin:/usr/games"
	}
	lines = append(lines, env)
	if s.Sessions > 0 {
		lines = append(lines, "MaxSessions "+fmt.Sprint(s.Sessions))
	}
	return os.WriteFile(filepath.Join(dir, "sshd_config"), []byte(strings.Join(lines, "\n")+"\n"), 0o600)
}

func (h *Host) start(dir string, s Shape) error {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	h.Port = l.Addr().(*net.TCPAddr).Port
	if err := l.Close(); err != nil {
		return err
	}
	if err := h.config(dir, s); err != nil {
		return err
	}
	log, err := os.Create(h.said)
	if err != nil {
		return err
	}
	defer log.Close() //nolint:errcheck // sshd has its own handle
	cmd := exec.Command(sshd, "-D", "-e", "-f", filepath.Join(dir, "sshd_config"))
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if s.apart() {
		cmd = exec.Command("sh", "-c", apart, dir, s.Root)
		// Its mounts are its own, and gone with it.
		cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Unshareflags: syscall.CLONE_NEWNS}
	}
	cmd.Stderr = log
	if err := cmd.Start(); err != nil {
		return err
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	for deadline := time.Now().Add(10 * time.Second); time.Now().Before(deadline); {
		conn, err := net.Dial("tcp", h.Address())
		if err == nil {
			h.cmd = cmd
			return conn.Close()
		}
		select {
		case err := <-ended:
			return fmt.Errorf("sshd ended: %w", err)
		case <-time.After(10 * time.Millisecond):
		}
	}
	_ = cmd.Process.Kill()
	return errors.New("sshd does not listen")
}

// rootedAt is a folder that every machine has, through root's own folders only: sshd asks for that.
const rootedAt = "/srv"

// apart begins sshd where it sees accounts and a root of its own.
const apart = `[ -z "$1" ] || mount --bind "$1" ` + rootedAt + ` || exit 1
[ ! -d "$0/etc" ] || mount --bind "$0/etc" /etc || exit 1
exec ` + sshd + ` -D -e -f "$0/sshd_config"`

// tenantFiles makes the /etc in which the machine has the tenant.
func tenantFiles(dir string, s Shape) error {
	hash, changed := "*", "20000"
	if s.Password != "" {
		out, err := exec.Command("perl", "-e", `print crypt($ARGV[0], "\$6\$reshardstand\$")`, s.Password).Output()
		if err != nil {
			return fmt.Errorf("perl: %w", err)
		}
		hash = string(out)
	}
	if s.Expired {
		changed = "0"
	}
	return ownEtc(dir, map[string]string{
		"passwd": fmt.Sprintf("tenant:x:%d:%d::/:/bin/sh\n", TenantID, TenantID),
		"shadow": fmt.Sprintf("tenant:%s:%s:0:99999:7:::\n", hash, changed),
		"group":  fmt.Sprintf("tenant:x:%d:\n", TenantID),
	})
}

func yes(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

// Address is where the machine listens.
func (h *Host) Address() string { return fmt.Sprintf("127.0.0.1:%d", h.Port) }

// Account is the machine's account as one signs in to it at a port: the machine's own, or that
// of a line to it.
func (h *Host) Account(port int) account.Account {
	return account.Account{
		Name: "moor", Host: "127.0.0.1", Port: port, User: h.User, Key: h.HostKey,
		Secrets: account.Secrets{PrivateKey: h.ClientKey},
	}
}

// Fingerprint is that of the machine's key.
func (h *Host) Fingerprint() string {
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(h.HostKey))
	if err != nil {
		return ""
	}
	return ssh.FingerprintSHA256(key)
}

// Close ends the machine, and whoever is signed in to it.
func (h *Host) Close() {
	if h.cmd != nil {
		_ = syscall.Kill(-h.cmd.Process.Pid, syscall.SIGTERM) // it may have ended
	}
}
