package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"io"
	"os/exec"
	"path/filepath"
	"syscall"

	"reshard/internal/client"
	"reshard/internal/core/fault"
	"reshard/internal/wire"
)

// moor is the demo's other machines while they run.
type moor struct {
	accounts []struct {
		Name        string `json:"name"`
		Address     string `json:"address"`
		Key         string `json:"key"`
		Fingerprint string `json:"fingerprint"`
		Password    string `json:"password"`
		Roots       string `json:"roots"`
		Provider    *struct {
			Origin      string `json:"origin"`
			User        string `json:"user"`
			Secret      string `json:"secret"`
			Description string `json:"description"`
		} `json:"provider"`
	}
	cmd   *exec.Cmd
	alive io.Closer // its standard input
}

// startMoor starts the second machine; nil when what it takes is not installed.
func startMoor(standin, data string) (*moor, error) {
	for _, needs := range []string{"/usr/sbin/sshd", "/usr/bin/tmux"} {
		if _, err := exec.LookPath(needs); err != nil {
			return nil, nil
		}
	}
	m := &moor{cmd: exec.Command(standin, "moor", filepath.Join(data, "moor-keys"))}
	m.cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true} // Ctrl-C is for the demo, which ends it
	in, err := m.cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	m.alive = in
	out, err := m.cmd.StdoutPipe()
	if err == nil {
		err = m.cmd.Start()
	}
	if err != nil {
		return nil, fault.Wrap(fault.Internal, "start", "the second machine", err)
	}
	line, err := bufio.NewReader(out).ReadBytes('\n')
	if err == nil {
		err = json.Unmarshal(line, &m.accounts)
	}
	if err != nil {
		return nil, fault.Wrap(fault.Internal, "start", "the second machine", m.end())
	}
	return m, nil
}

// end ends the machine.
func (m *moor) end() error {
	if m == nil {
		return nil
	}
	_ = m.alive.Close() // it ends with its input
	return m.cmd.Wait()
}

// introduce has the service know the machine's accounts, where they are now. The demo has made
// their keys itself, and so accepts them for the person.
func (m *moor) introduce(ctx context.Context, api *client.Client) error {
	if m == nil {
		return nil
	}
	for _, a := range m.accounts {
		var with wire.SignIn
		if with.PrivateKey = &a.Key; a.Password != "" {
			with = wire.SignIn{Password: &a.Password}
		}
		_, err := api.AddHost(ctx, wire.NewHost{
			Name: a.Name, Address: a.Address, SignIn: with, AcceptKey: a.Fingerprint, Roots: a.Roots,
		})
		switch fault.CodeOf(err) {
		case fault.Exists:
			change := wire.HostChange{Address: &a.Address, SignIn: with, AcceptKey: a.Fingerprint}
			if a.Roots != "" {
				change.Roots = &a.Roots
			}
			_, err = api.ChangeHost(ctx, a.Name, change)
		case "":
			_, err = api.CheckHost(ctx, a.Name)
		}
		if p := a.Provider; err == nil && p != nil {
			_, err = api.SetProvider(ctx, a.Name, wire.NewProvider{
				Description: p.Description, Origin: p.Origin, User: p.User, Secret: &p.Secret, Private: true,
			})
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// has reports whether one of the machines has an account.
func (m *moor) has(host string) bool {
	if m == nil {
		return false
	}
	for _, a := range m.accounts {
		if a.Name == host {
			return true
		}
	}
	return false
}
