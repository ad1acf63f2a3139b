package main

import (
	"encoding/json"
	"io"
	"os"
	"path/filepath"

	"reshard/cmd/standin/farhost"
)

// moor runs the demo's second machine: an account with commands and a rented one that gives files
// and no more. It prints how each is reached, and ends when in does.
func moor(dir string, in io.Reader, out io.Writer) error {
	type account struct {
		Name        string `json:"name"`
		Port        int    `json:"port"`
		User        string `json:"user"`
		Key         string `json:"key"`
		Fingerprint string `json:"fingerprint"`
	}
	var accounts []account
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
		accounts = append(accounts, account{a.name, h.Port, h.User, h.ClientKey, h.Fingerprint()})
	}
	if err := json.NewEncoder(out).Encode(accounts); err != nil {
		return err
	}
	_, err := io.Copy(io.Discard, in)
	return err
}
