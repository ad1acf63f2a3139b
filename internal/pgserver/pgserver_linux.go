// Package pgserver runs a private PostgreSQL on loopback, from the server
// programs that Debian's packages install. The demo and the tests use it; a
// real service is given the address of a database.
package pgserver

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"sort"
	"strconv"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"

	"reshard/internal/core/fault"
)

// Server is a running private PostgreSQL.
type Server struct {
	dir      string
	bin      string
	port     int
	password string
	settings []string
	cred     *syscall.Credential
	cmd      *exec.Cmd
	done     chan struct{}
}

// Programs finds the newest installed server programs.
func Programs() (string, error) {
	found, err := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if err != nil || len(found) == 0 {
		return "", fault.New(fault.NotFound, "find", "PostgreSQL", "no server programs below /usr/lib/postgresql").
			With("Install them: apt-get install postgresql-15.")
	}
	sort.Strings(found)
	return filepath.Dir(found[len(found)-1]), nil
}

// Start makes a cluster in dir, unless one is there, and runs it on a free
// loopback port. PostgreSQL refuses to run as root, so root runs it as the user
// postgres; every folder above dir must then be open to that user.
// Settings are NAME=VALUE pairs for the server's own configuration.
func Start(ctx context.Context, dir string, settings ...string) (*Server, error) {
	s := &Server{dir: dir, settings: settings, done: make(chan struct{})}
	var err error
	if s.bin, err = Programs(); err != nil {
		return nil, err
	}
	if err := s.prepare(); err != nil {
		return nil, fault.Wrap(fault.Internal, "prepare PostgreSQL in", dir, err)
	}
	if err := s.run(); err != nil {
		return nil, fault.Wrap(fault.Internal, "run PostgreSQL in", dir, err)
	}
	if err := s.wait(ctx); err != nil {
		return nil, errors.Join(err, s.Stop())
	}
	return s, nil
}

func (s *Server) prepare() error {
	if err := os.MkdirAll(s.dir, 0o700); err != nil {
		return err
	}
	if os.Geteuid() == 0 {
		u, err := user.Lookup("postgres")
		if err != nil {
			return fmt.Errorf("there is no user postgres; installing postgresql-15 makes one: %w", err)
		}
		uid, _ := strconv.ParseUint(u.Uid, 10, 32) // the user database holds numbers
		gid, _ := strconv.ParseUint(u.Gid, 10, 32)
		s.cred = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
		if err := os.Chown(s.dir, int(uid), int(gid)); err != nil {
			return err
		}
	}
	secret := filepath.Join(s.dir, "password")
	if data, err := os.ReadFile(secret); err == nil {
		s.password = string(data)
	} else {
		b := make([]byte, 16)
		_, _ = rand.Read(b) // never fails
		s.password = hex.EncodeToString(b)
		if err := os.WriteFile(secret, []byte(s.password), 0o600); err != nil {
			return err
		}
		if s.cred != nil {
			if err := os.Chown(secret, int(s.cred.Uid), int(s.cred.Gid)); err != nil {
				return err
			}
		}
	}
	if _, err := os.Stat(filepath.Join(s.cluster(), "PG_VERSION")); err == nil {
		return s.stopLeftover()
	}
	return s.initialise(secret)
}

func (s *Server) cluster() string { return filepath.Join(s.dir, "cluster") }

func (s *Server) initialise(secret string) error {
	cmd := s.command("initdb", "-D", s.cluster(), "-U", "reshard", "-A", "scram-sha-256", "--pwfile="+secret, "-E",
		"UTF8", "--locale=C", "-N")
	if out, err := cmd.CombinedOutput(); err != nil {
		// A half-made cluster would be taken for a whole one the next time.
		return errors.Join(fmt.Errorf("initdb: %w: %s", err, out), os.RemoveAll(s.cluster()))
	}
	return nil
}

// stopLeftover ends a server that an earlier, killed life left running.
func (s *Server) stopLeftover() error {
	if _, err := os.Stat(filepath.Join(s.cluster(), "postmaster.pid")); err != nil {
		return nil
	}
	// It fails when the file is left and the process is not, which is fine.
	_ = s.command("pg_ctl", "stop", "-D", s.cluster(), "-m", "fast", "-w", "-t", "20").Run()
	return nil
}

func (s *Server) command(name string, args ...string) *exec.Cmd {
	cmd := exec.Command(filepath.Join(s.bin, name), args...)
	cmd.Dir = s.dir
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: s.cred, Setpgid: true}
	return cmd
}

func (s *Server) run() error {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	s.port = l.Addr().(*net.TCPAddr).Port
	if err := l.Close(); err != nil {
		return err
	}
	log, err := os.OpenFile(filepath.Join(s.dir, "log"), os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	defer log.Close() //nolint:errcheck // the process has its own handle
	// What a killed life leaves running, the next Start ends.
	args := []string{"-D", s.cluster(), "-k", s.dir, "-h", "127.0.0.1", "-p", strconv.Itoa(s.port)}
	for _, setting := range s.settings {
		args = append(args, "-c", setting)
	}
	s.cmd = s.command("postgres", args...)
	s.cmd.Stdout, s.cmd.Stderr = log, log
	if err := s.cmd.Start(); err != nil {
		return err
	}
	go func() {
		_ = s.cmd.Wait() // its log tells why
		close(s.done)
	}()
	return nil
}

func (s *Server) wait(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	for {
		conn, err := pgx.Connect(ctx, s.url("postgres"))
		if err == nil {
			return conn.Close(ctx)
		}
		select {
		case <-s.done:
			log, _ := os.ReadFile(filepath.Join(s.dir, "log"))
			return fault.New(fault.Internal, "run PostgreSQL in", s.dir, "it exited: %.600s", log)
		case <-ctx.Done():
			return fault.New(fault.Unreachable, "run PostgreSQL in", s.dir, "it does not answer: %v", err)
		case <-time.After(30 * time.Millisecond):
		}
	}
}

func (s *Server) url(database string) string {
	u := url.URL{
		Scheme:   "postgres",
		User:     url.UserPassword("reshard", s.password),
		Host:     "127.0.0.1:" + strconv.Itoa(s.port),
		Path:     database,
		RawQuery: "sslmode=disable",
	}
	return u.String()
}

// Database makes a database, unless it is there, and gives its address.
func (s *Server) Database(ctx context.Context, name string) (string, error) {
	conn, err := pgx.Connect(ctx, s.url("postgres"))
	if err != nil {
		return "", fault.Wrap(fault.Unreachable, "connect to", "PostgreSQL", err)
	}
	defer conn.Close(ctx) //nolint:errcheck // nothing is pending
	var there bool
	if err := conn.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_database WHERE datname = $1)", name).Scan(
		&there); err != nil {
		return "", fault.Wrap(fault.Internal, "make database", name, err)
	}
	if !there {
		if _, err := conn.Exec(ctx, "CREATE DATABASE "+pgx.Identifier{name}.Sanitize()); err != nil {
			return "", fault.Wrap(fault.Internal, "make database", name, err)
		}
	}
	return s.url(name), nil
}

// PID is the number of its first process.
func (s *Server) PID() int { return s.cmd.Process.Pid }

// Stop ends the server and waits for its end.
func (s *Server) Stop() error {
	if err := s.cmd.Process.Signal(syscall.SIGINT); err != nil && !errors.Is(err, os.ErrProcessDone) {
		return err
	}
	select {
	case <-s.done:
	case <-time.After(20 * time.Second):
		_ = s.cmd.Process.Kill() // it is asked politely first
		<-s.done
	}
	return nil
}
