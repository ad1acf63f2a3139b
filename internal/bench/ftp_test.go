package bench

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jlaffaye/ftp"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/farhost"
	"reshard/cmd/standin/quarrymoss"
	"reshard/cmd/standin/tollen"
	"reshard/internal/core/account"
	"reshard/internal/core/server"
	"reshard/internal/wire"
	"reshard/providers"
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

// BenchmarkFTP compares staging a world over FTP at a round trip of 50 ms with sending the same files over
// one connection: file by file in people's hands, and as one archive where a provider unpacks it; and measures
// our part of the stop window of a put and its undo.
func BenchmarkFTP(b *testing.B) {
	if !farhost.FTPAvailable() {
		b.Skip("a real FTP server needs vsftpd and root")
	}
	const roundTrip = 50 * time.Millisecond
	for _, c := range []struct {
		name   string
		shape  farhost.FTPShape
		rented bool
	}{
		{"plain", farhost.FTPShape{}, false}, {"TLS", farhost.FTPShape{TLS: account.Explicit}, false},
		{"unpacked", farhost.FTPShape{}, true},
	} {
		b.Run(c.name, func(b *testing.B) {
			s, a := startFTP(b, c.shape, roundTrip, c.rented)
			made, stored := s.world("fen", size(300, 10), 5200)
			for b.Loop() {
				ours, _ := s.placed(stored.ID, "fen", nil)
				b.ReportMetric(ours, "ours-s")
				if c.shape.TLS == "" {
					theirs := s.ftp(a, made)
					b.ReportMetric(theirs, "one-connection-s")
					b.ReportMetric(ours/theirs, "ratio")
				}
				s.thereAndBack(map[string]string{"folder-name": "fen-window"})
			}
		})
	}
}

// startFTP is a service with a server on a machine that is reached over FTP, in people's hands or rented.
func startFTP(b *testing.B, shape farhost.FTPShape, roundTrip time.Duration, rented bool) (*far, account.Account) {
	b.Helper()
	if tiny {
		roundTrip = 0
	}
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
	means := server.Means{By: server.ByHand}
	if rented {
		means = server.Means{By: server.ByProvider, Machine: "14"}
		s.rent(roundTrip)
	}
	_, err = s.api.AddServer(ctx, wire.NewServer{
		Name: "fen", Host: "quay", Game: "quarrymoss", Kind: "plain", Root: s.root, Control: means,
	})
	require.NoError(b, err)
	if rented {
		_, err = s.api.StartServer(ctx, "fen", wire.StartServer{})
		require.NoError(b, err)
		return s, a
	}
	_, err = s.api.SayStarted(ctx, "fen")
	require.NoError(b, err)
	s.attend()
	return s, a
}

// rent has a provider run the server, which is as far away as its files.
func (s *far) rent(roundTrip time.Duration) {
	s.b.Helper()
	p, err := tollen.Start(&tollen.Plot{
		ID: "14", Dir: s.root, Command: []string{s.tool, "quarrymoss", "serve", "."}, Settings: "quarry.properties",
		StopLine: "halt",
	})
	require.NoError(s.b, err)
	s.b.Cleanup(p.Close)
	gate, err := farhost.NewLine(strings.TrimPrefix(p.Origin(), "http://"), roundTrip)
	require.NoError(s.b, err)
	s.b.Cleanup(gate.Close)
	_, err = s.api.SetProvider(context.Background(), "quay", wire.NewProvider{
		Description: string(providers.Example()), Origin: fmt.Sprintf("http://%s:%d", gate.Address(), gate.Port()),
		User: p.User, Secret: &p.Phrase, Private: true,
	})
	require.NoError(s.b, err)
}

// attend is a person who does at once what they are asked to.
func (s *far) attend() {
	ctx, over := context.WithCancel(context.Background())
	s.b.Cleanup(over)
	go func() {
		for ctx.Err() == nil {
			time.Sleep(200 * time.Millisecond)
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
}

// BenchmarkFTPStopWindow measures our part of the stop window over FTP at a round trip of 50 ms for worlds of several
// sizes: folders are renamed at once.
func BenchmarkFTPStopWindow(b *testing.B) {
	if !farhost.FTPAvailable() {
		b.Skip("a real FTP server needs vsftpd and root")
	}
	for _, tiles := range []int{16, 256} {
		if tiny && tiles > 16 {
			continue
		}
		b.Run(fmt.Sprintf("%dMB", tiles), func(b *testing.B) {
			s, _ := startFTP(b, farhost.FTPShape{TLS: account.Explicit}, 50*time.Millisecond, false)
			s.world("fen", tiles, size(1<<20, 1<<10))
			for b.Loop() {
				s.thereAndBack(nil)
			}
		})
	}
}
