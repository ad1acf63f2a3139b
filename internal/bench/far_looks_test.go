package bench

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"reshard/games"
	"reshard/internal/control"
	"reshard/internal/core/account"
	"reshard/internal/core/plan"
	"reshard/internal/core/server"
	"reshard/internal/host"
	"reshard/internal/host/ssh"
	"reshard/internal/hostfs"
	"reshard/internal/observe"
	"reshard/internal/wire"
)

// BenchmarkFarLooks measures how long what is told of a server takes at a round trip of 50 ms, on a
// connection that is open: the heads of a server with a small world, all of it as a person asks for
// it, and the sheet of a switch to a world of 2,000 files.
func BenchmarkFarLooks(b *testing.B) {
	for _, shape := range farShapes {
		b.Run(shape.name, func(b *testing.B) {
			s := startFar(b, shape.Shape, 50*time.Millisecond)
			_, stored := s.world("fen", size(2000, 20), 600)
			ctx := context.Background()
			for b.Loop() {
				var heads, asked, looks []float64
				seen := s.observer()
				for range 6 {
					begun := time.Now()
					_, err := seen.Heads(ctx)
					require.NoError(b, err)
					heads = append(heads, float64(time.Since(begun).Milliseconds()))
				}
				heads = heads[1:] // the first opens the connection
				for range 5 {
					begun := time.Now()
					_, err := s.api.Server(ctx, "fen")
					require.NoError(b, err)
					asked = append(asked, float64(time.Since(begun).Milliseconds()))
				}
				s.placed(stored.ID, "fen", nil)
				for range 5 {
					begun := time.Now()
					_, err := s.api.Sheet(ctx, wire.Wish{Kind: plan.Switch, World: "fen", Server: "fen"})
					require.NoError(b, err)
					looks = append(looks, float64(time.Since(begun).Milliseconds()))
				}
				b.ReportMetric(median(heads), "heads-ms")
				b.ReportMetric(asked[0], "first-asked-ms")
				b.ReportMetric(median(asked), "asked-ms")
				b.ReportMetric(looks[0], "first-look-ms")
				b.ReportMetric(median(looks), "look-ms")
			}
		})
	}
}

// observer looks at the server fen as the service does, over a connection of its own.
func (s *far) observer() *observe.Observer {
	s.b.Helper()
	ctx := context.Background()
	h, err := s.api.Host(ctx, "moor")
	require.NoError(s.b, err)
	a := account.Account{
		Name: h.Name, Host: h.Address, Port: h.Port, User: h.User, Folder: h.Folder, Key: s.host.HostKey,
		Secrets: account.Secrets{PrivateKey: s.host.ClientKey},
	}
	machine, err := ssh.Open(ctx, host.Spec{Name: h.Name, Kind: ssh.Kind, Account: a, Found: h.Found})
	require.NoError(s.b, err)
	s.b.Cleanup(func() { _ = machine.(host.Closer).Close() })
	files, closer, err := machine.Files(ctx, s.root)
	require.NoError(s.b, err)
	s.b.Cleanup(func() { _ = closer.Close() })
	sv, err := s.api.Server(ctx, "fen")
	require.NoError(s.b, err)
	process, err := machine.Process(ctx, host.Server{
		ID: 1, Name: "fen", Root: s.root, Command: sv.Server.Command, Means: sv.Server.Control,
	})
	require.NoError(s.b, err)
	profile, err := games.Find("quarrymoss")
	require.NoError(s.b, err)
	return &observe.Observer{
		Name: "fen", Files: hostfs.New(s.root, files), Control: control.New("fen", process, profile), Profile: profile,
		Machine: server.Machine{Kind: "plain", Roots: []string{s.root}}, Memory: observe.NewMemory(), Now: time.Now,
	}
}
