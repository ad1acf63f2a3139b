package farhost

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	mathrand "math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"reshard/internal/core/account"
)

// vsftpd is where Debian puts the program.
const vsftpd = "/usr/sbin/vsftpd"

// FTPShape is how an account of an FTP server may be used.
type FTPShape struct {
	// TLS is how it is encrypted; "" is not at all. With it each data connection has to resume the
	// session of its control connection.
	TLS account.TLS
	// Root is what the account sees as "/"; "" is the machine's own.
	Root string
	// Connections is how many there may be; 0: any number.
	Connections int
	// ReadOnly: nothing can be written.
	ReadOnly bool
	// NoRename: the server takes no renames.
	NoRename bool
	// Idle is after how long a connection is ended that nobody uses; 0: five minutes.
	Idle time.Duration
	// UploadLimit is how large a file may be, in bytes (setrlimit(2), of the server); 0: any.
	UploadLimit int64
}

// lines is how many addresses lines to a server may begin at, its own included.
const lines = 60

// passive is how many ports an FTP server has for data; they are between 20,000 and 30,000, where no test puts a game.
const passive = 24

// FTPHost is a running FTP server.
type FTPHost struct {
	Port int
	User string
	// Password lets the account in.
	Password string
	// Roots vouch for its certificate, in PEM.
	Roots string

	first int // of the ports for data
	shape FTPShape
	cmd   *exec.Cmd
}

// FTPAvailable tells whether the machine has what an FTP server takes. It needs root, to know
// accounts of its own.
func FTPAvailable() bool {
	_, err := os.Stat(vsftpd)
	return err == nil && os.Geteuid() == 0
}

// StartFTP starts an FTP server that keeps its files in dir.
func StartFTP(dir string, s FTPShape) (*FTPHost, error) {
	if !FTPAvailable() {
		return nil, errors.New("there is no " + vsftpd + ", or this is not root: install vsftpd")
	}
	h := &FTPHost{User: "bram@quay", Password: "seven-grey-herons", shape: s}
	if err := h.files(dir); err != nil {
		return nil, err
	}
	var err error
	for range 8 { // somebody else may take a port
		if err = h.start(dir); err == nil {
			return h, nil
		}
	}
	return nil, err
}

// files writes the accounts, the way to check passwords and the certificate. The account has the
// numbers of the one who starts it, so that games that are started here can write to its files.
func (h *FTPHost) files(dir string) error {
	hash, err := exec.Command("perl", "-e", `print crypt($ARGV[0], "\$6\$reshardstand\$")`, h.Password).Output()
	if err != nil {
		return fmt.Errorf("perl: %w", err)
	}
	err = ownEtc(dir, map[string]string{
		"passwd": fmt.Sprintf("%s:x:0:0::/:/bin/sh\n", h.User),
		"shadow": fmt.Sprintf("%s:%s:20000:0:99999:7:::\n", h.User, hash),
	})
	if err != nil {
		return err
	}
	pam := "auth required pam_unix.so\naccount required pam_unix.so\nsession required pam_permit.so\n"
	if err := os.WriteFile(filepath.Join(dir, "etc", "pam.d", "vsftpd"), []byte(pam), 0o644); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Join(dir, "empty"), 0o755); err != nil {
		return err
	}
	if h.shape.TLS == "" {
		return nil
	}
	return h.certificate(dir)
}

// certificate makes one that vouches for itself, and keeps it: a server that is started again is
// the same one.
func (h *FTPHost) certificate(dir string) error {
	file := filepath.Join(dir, "certificate.pem")
	if have, err := os.ReadFile(file); err == nil {
		h.Roots = string(have)
		return nil
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	template := x509.Certificate{
		SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: "quay.example"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(10, 0, 0),
		IsCA: true, BasicConstraintsValid: true, DNSNames: []string{"quay.example"},
	}
	for n := range lines {
		template.IPAddresses = append(template.IPAddresses, net.IPv4(127, 0, 0, byte(n+1)))
	}
	der, err := x509.CreateCertificate(rand.Reader, &template, &template, &key.PublicKey, key)
	if err != nil {
		return err
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	h.Roots = string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
	if err := os.WriteFile(filepath.Join(dir, "key.pem"),
		pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}), 0o600); err != nil {
		return err
	}
	return os.WriteFile(file, []byte(h.Roots), 0o644)
}

// config gives vsftpd.conf(5) for the shape.
func (h *FTPHost) config(dir string) string {
	s := h.shape
	lines := []string{
		"listen=YES", fmt.Sprint("listen_port=", h.Port), "listen_address=127.0.0.1", "background=NO",
		"anonymous_enable=NO", "local_enable=YES", "write_enable=" + strings.ToUpper(yes(!s.ReadOnly)),
		"local_umask=022", "pam_service_name=vsftpd", "secure_chroot_dir=" + filepath.Join(dir, "empty"),
		fmt.Sprint("pasv_min_port=", h.first), fmt.Sprint("pasv_max_port=", h.first+passive-1), "xferlog_enable=NO",
		"seccomp_sandbox=NO", "session_support=NO", // its filter ends it on newer kernels
	}
	if s.Root != "" {
		lines = append(lines, "local_root="+s.Root, "chroot_local_user=YES", "allow_writeable_chroot=YES")
	}
	if s.Connections > 0 {
		lines = append(lines, fmt.Sprint("max_clients=", s.Connections))
	}
	if s.NoRename {
		lines = append(lines, "cmds_denied=RNFR,RNTO")
	}
	if s.Idle > 0 {
		lines = append(lines, fmt.Sprint("idle_session_timeout=", int(s.Idle.Seconds())))
	}
	if s.TLS != "" {
		lines = append(lines, "ssl_enable=YES", "rsa_cert_file="+filepath.Join(dir, "certificate.pem"),
			"rsa_private_key_file="+filepath.Join(dir, "key.pem"), "force_local_data_ssl=YES",
			"force_local_logins_ssl=YES",
			"require_ssl_reuse=YES", "ssl_ciphers=HIGH")
	}
	if s.TLS == account.Implicit {
		lines = append(lines, "implicit_ssl=YES")
	}
	return strings.Join(lines, "\n") + "\n"
}

func (h *FTPHost) start(dir string) error {
	h.first = 20_000 + mathrand.IntN(10_000)
	if err := free(h.first, passive); err != nil {
		return err
	}
	h.Port = h.first + passive
	if err := free(h.Port, 1); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(dir, "vsftpd.conf"), []byte(h.config(dir)), 0o600); err != nil {
		return err
	}
	said, err := os.Create(filepath.Join(dir, "vsftpd.log"))
	if err != nil {
		return err
	}
	defer said.Close() //nolint:errcheck // the server has its own handle
	limit := "unlimited"
	if h.shape.UploadLimit > 0 {
		limit = fmt.Sprint(h.shape.UploadLimit / 512) // sh(1) counts in blocks
	}
	cmd := exec.Command("sh", "-c", accounts, dir, limit)
	// Its mounts are its own, and gone with it.
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Unshareflags: syscall.CLONE_NEWNS}
	cmd.Stdout, cmd.Stderr = said, said
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
		case <-ended:
			log, _ := os.ReadFile(said.Name())
			return fmt.Errorf("vsftpd ended: %s", log)
		case <-time.After(10 * time.Millisecond):
		}
	}
	_ = cmd.Process.Kill()
	return errors.New("vsftpd does not listen")
}

// accounts starts vsftpd in a mount namespace where it sees accounts of its own.
const accounts = `mount --bind "$0/etc" /etc || exit 1
ulimit -f "$1" && trap '' XFSZ && exec ` + vsftpd + ` "$0/vsftpd.conf"`

// free is an error unless so many ports from a first one on can be listened at.
func free(first, n int) error {
	for port := first; port < first+n; port++ {
		l, err := net.Listen("tcp", fmt.Sprint("127.0.0.1:", port))
		if err != nil {
			return err
		}
		_ = l.Close() // it was only tried
	}
	return nil
}

// Address is where the server listens.
func (h *FTPHost) Address() string { return fmt.Sprintf("127.0.0.1:%d", h.Port) }

// Account is the account as one signs in to it at an address and a port: the server's own, or those
// of a line to it.
func (h *FTPHost) Account(host string, port int) account.Account {
	a := account.Account{
		Name: "quay", Protocol: account.FTP, TLS: h.shape.TLS, Host: host, Port: port, User: h.User, Key: "none",
		Secrets: account.Secrets{Password: h.Password},
	}
	if a.TLS == "" {
		a.TLS = account.NoTLS
	} else {
		a.Roots, a.Key = h.Roots, "roots"
	}
	return a
}

// Line makes a line to the server and its ports for data, with a round trip that long. It begins at
// another address than the server's, since the ports have to be the same ones.
func (h *FTPHost) Line(roundTrip time.Duration) (*Line, error) {
	var err error
	for n := 2; n <= lines; n++ {
		at := fmt.Sprintf("127.0.0.%d", n)
		var ways [][2]string
		for port := h.first + passive; port >= h.first; port-- { // that of the server first
			ways = append(ways, [2]string{fmt.Sprintf("%s:%d", at, port), fmt.Sprintf("127.0.0.1:%d", port)})
		}
		var l *Line
		if l, err = newLine(roundTrip, ways...); err == nil {
			return l, nil
		}
	}
	return nil, err
}

// Close ends the server, and whoever is signed in to it.
func (h *FTPHost) Close() {
	if h.cmd != nil {
		_ = syscall.Kill(-h.cmd.Process.Pid, syscall.SIGTERM) // it may have ended
	}
}
