package main

import (
	"encoding/json"
	"errors"
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
		if err := shown(filepath.Dir(dir), h, plots); err != nil {
			return err
		}
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
	plot := func(id, name string) *tollen.Plot {
		return &tollen.Plot{
			ID: id, Dir: filepath.Join(data, "moor", name), Command: []string{self, "quarrymoss", "serve", "."},
			Settings: "quarry.properties", StopLine: "halt",
		}
	}
	return tollen.Start(plot(rentedPlot, rentedServer), plot(sparePlot, spareServer))
}

// shown writes what the provider shows of the rented account and its spare server, for a shell to read.
func shown(data string, h *farhost.FTPHost, plots *tollen.Provider) error {
	roots := filepath.Join(data, "quay-roots.pem")
	text := fmt.Sprintf("ADDRESS='ftp://%s@%s'\nPASSWORD='%s'\nROOTS='%s'\nGATE='%s'\nGATE_USER='%s'\nPHRASE='%s'\n"+
		"PLOT='%s'\nFOLDER='%s'\n", h.User, h.Address(), h.Password, roots, plots.Origin(), plots.User, plots.Phrase,
		sparePlot, filepath.Join(data, "moor", spareServer))
	return errors.Join(os.WriteFile(roots, []byte(h.Roots), 0o644),
		os.WriteFile(filepath.Join(data, "quay.env"), []byte(text), 0o600))
}

// What the demo's rented servers are called, and what their provider calls them. Nobody has told Reshard of the
// spare one: that is for a person to do.
const (
	rentedServer, rentedPlot = "withy-plot", "14"
	spareServer, sparePlot   = "osier-plot", "15"
)
