package bench

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/jlaffaye/ftp"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/farhost"
	"reshard/cmd/standin/quarrymoss"
	"reshard/internal/core/account"
	"reshard/internal/core/plan"
	"reshard/internal/core/server"
	"reshard/internal/wire"
)

// ftp sends a folder's files over one FTP connection, one after the other, as an upload program does,
// and gives how long that took, in seconds.
func (s *far) ftp(a account.Account, folder string) float64 {
	s.b.Helper()
	to := filepath.Join(s.dir, "by-ftp")
	require.NoError(s.b, os.MkdirAll(to, 0o755))
	begun := time.Now()
	c, err := ftp.Dial(a.Address())
	require.NoError(s.b, err)
	require.NoError(s.b, c.Login(a.User, a.Secrets.Password))
	require.NoError(s.b, filepath.WalkDir(folder, func(p string, d os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(folder, p)
		if err != nil || rel == "." {
			return err
		}
		if d.IsDir() {
			return c.MakeDir(filepath.Join(to, rel))
		}
		f, err := os.Open(p)
		if err != nil {
			return err
		}
		return errors.Join(c.Stor(filepath.Join(to, rel), f), f.Close())
	}))
	took := time.Since(begun).Seconds()
	require.NoError(s.b, c.Quit())
	require.NoError(s.b, os.RemoveAll(to))
	return took
}

// BenchmarkFTP compares staging a world over FTP at a round trip of 50 ms, compared with the copy when
// it is there, with sending the same files over one connection; and measures our part of the stop
// window, in people's hands who stop and start nothing.
func BenchmarkFTP(b *testing.B) {
	if !farhost.FTPAvailable() {
		b.Skip("a real FTP server needs vsftpd and root")
	}
	const roundTrip = 50 * time.Millisecond
	for name, shape := range map[string]farhost.FTPShape{"plain": {}, "TLS": {TLS: account.Explicit}} {
		b.Run(name, func(b *testing.B) {
			s, a := startFTP(b, shape, roundTrip)
			made, stored := s.world("fen", 300, 5200)
			for b.Loop() {
				ours, _ := s.placed(stored.ID, "fen", nil)
				b.ReportMetric(ours, "ours-s")
				if shape.TLS == "" {
					theirs := s.ftp(a, made)
					b.ReportMetric(theirs, "one-connection-s")
					b.ReportMetric(ours/theirs, "ratio")
				}
				c := s.do(wire.Wish{Kind: plan.Put, World: "fen", Server: "fen",
					Choices: map[string]string{"folder-name": "fen-window"}})
				b.ReportMetric(float64(c.Window.OursMS), "put-ms")
			}
		})
	}
}

// startFTP is a service with a server in people's hands on a machine that is reached over FTP.
func startFTP(b *testing.B, shape farhost.FTPShape, roundTrip time.Duration) (*far, account.Account) {
	b.Helper()
	s := &far{bundle: setup(b)}
	keys := filepath.Join(s.dir, "keys")
	require.NoError(b, os.Mkdir(keys, 0o755))
	h, err := farhost.StartFTP(keys, shape)
	require.NoError(b, err)
	b.Cleanup(h.Close)
	line, err := h.Line(roundTrip)
	require.NoError(b, err)
	b.Cleanup(line.Close)
	a := h.Account(line.Address(), line.Port())
	ctx := context.Background()
	_, err = s.api.AddHost(ctx, wire.NewHost{
		Name: "quay", Address: "ftp://" + a.String(), Folder: s.dir, TLS: a.TLS, Roots: a.Roots,
		SignIn: wire.SignIn{Password: &h.Password},
	})
	require.NoError(b, err)
	_, err = s.api.CheckHost(ctx, "quay")
	require.NoError(b, err)
	s.root = filepath.Join(s.dir, "servers", "fen")
	require.NoError(b, quarrymoss.MakeServer(s.root, quarrymoss.Config{Version: "2.5.1", Kind: "plain"}, "winter", 1,
		0))
	require.NoError(b, quarrymoss.Make(filepath.Join(s.root, "worlds", "winter"),
		quarrymoss.Options{Title: "winter", Seed: 1}))
	_, err = s.api.AddServer(ctx, wire.NewServer{
		Name: "fen", Host: "quay", Game: "quarrymoss", Kind: "plain", Root: s.root,
		Control: server.Means{By: server.ByHand},
	})
	require.NoError(b, err)
	_, err = s.api.SayStarted(ctx, "fen")
	require.NoError(b, err)
	// A person who does at once what they are asked to.
	over := make(chan struct{})
	b.Cleanup(func() { close(over) })
	go func() {
		for {
			select {
			case <-over:
				return
			case <-time.After(200 * time.Millisecond):
			}
			now, err := s.api.Server(ctx, "fen")
			switch {
			case err != nil || now.Server.Asked == nil:
			case now.Server.Asked.What == "stop":
				_, _ = s.api.SayStopped(ctx, "fen")
			case now.Server.Asked.What == "start":
				_, _ = s.api.SayStarted(ctx, "fen")
			}
		}
	}()
	return s, a
}
