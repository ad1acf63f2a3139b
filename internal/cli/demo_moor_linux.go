package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os/exec"
	"path/filepath"
	"syscall"

	"reshard/internal/client"
	"reshard/internal/core/fault"
	"reshard/internal/wire"
)

// moor is the demo's second machine while it runs.
type moor struct {
	accounts []struct {
		Name        string `json:"name"`
		Port        int    `json:"port"`
		User        string `json:"user"`
		Key         string `json:"key"`
		Fingerprint string `json:"fingerprint"`
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
		at, accept, key := fmt.Sprintf("%s@127.0.0.1:%d", a.User, a.Port), a.Fingerprint, a.Key
		_, err := api.AddHost(ctx, wire.NewHost{
			Name: a.Name, Address: "sftp://" + at, SignIn: wire.SignIn{PrivateKey: &key}, AcceptKey: accept,
		})
		switch fault.CodeOf(err) {
		case fault.Exists:
			_, err = api.ChangeHost(ctx, a.Name, wire.HostChange{
				Address: &at, SignIn: wire.SignIn{PrivateKey: &key}, AcceptKey: accept,
			})
		case "":
			_, err = api.CheckHost(ctx, a.Name)
		}
		if err != nil {
			return err
		}
	}
	return nil
}
