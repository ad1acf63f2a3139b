package main

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"reshard/cmd/standin/farhost"
	"reshard/cmd/standin/tollen"
	tls "reshard/internal/core/account"
	"reshard/providers"
)

// moor runs the demo's other machines: an account with commands, a rented one that gives files over
// SFTP and no more, and, where it may, one on a third machine that gives them over FTP. It prints how
// each is reached, and ends when in does.
func moor(dir string, in io.Reader, out io.Writer) error {
	type account struct {
		Name        string `json:"name"`
		Address     string `json:"address"`
		Key         string `json:"key,omitempty"`
		Fingerprint string `json:"fingerprint,omitempty"`
		Password    string `json:"password,omitempty"`
		Roots       string `json:"roots,omitempty"`
		// Provider is its provider's own interface.
		Provider *provider `json:"provider,omitempty"`
	}
	var accounts []account
	plots, err := rented(filepath.Dir(dir))
	if err != nil {
		return err
	}
	defer plots.Close()
	for _, a := range []struct {
		name  string
		shape farhost.Shape
	}{{"moor", farhost.Shape{}}, {"moor-files", farhost.Shape{FilesOnly: true}}} {
		keys := filepath.Join(dir, a.name)
		if err := os.MkdirAll(keys, 0o700); err != nil {
			return err
		}
		h, err := farhost.Start(keys, a.shape)
		if err != nil {
			return err
		}
		defer h.Close()
		accounts = append(accounts, account{
			Name: a.name, Address: fmt.Sprintf("sftp://%s@%s", h.User, h.Address()), Key: h.ClientKey,
			Fingerprint: h.Fingerprint(),
		})
	}
	if farhost.FTPAvailable() {
		keys := filepath.Join(dir, "quay")
		if err := os.MkdirAll(keys, 0o755); err != nil {
			return err
		}
		h, err := farhost.StartFTP(keys, farhost.FTPShape{TLS: tls.Explicit})
		if err != nil {
			return err
		}
		defer h.Close()
		accounts = append(accounts, account{
			Name: "quay", Address: fmt.Sprintf("ftp://%s@%s", h.User, h.Address()), Password: h.Password,
			Roots: h.Roots,
			Provider: &provider{
				Origin: plots.Origin(), User: plots.User, Secret: plots.Phrase,
				Description: string(providers.Example()),
			},
		})
	}
	if err := json.NewEncoder(out).Encode(accounts); err != nil {
		return err
	}
	_, err = io.Copy(io.Discard, in)
	return err
}

// provider is how a provider's own interface is reached.
type provider struct {
	Origin      string `json:"origin"`
	User        string `json:"user"`
	Secret      string `json:"secret"`
	Description string `json:"description"`
}

// rented begins the provider that starts and stops the demo's rented server, in its data folder.
func rented(data string) (*tollen.Provider, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	return tollen.Start(&tollen.Plot{
		ID: rentedPlot, Dir: filepath.Join(data, "moor", rentedServer),
		Command:  []string{self, "quarrymoss", "serve", "."},
		Settings: "quarry.properties", StopLine: "halt",
	})
}

// What the demo's rented server is called, and what its provider calls it.
const (
	rentedServer = "withy-plot"
	rentedPlot   = "14"
)
