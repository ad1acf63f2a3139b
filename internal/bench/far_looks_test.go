package bench

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"reshard/internal/core/plan"
	"reshard/internal/wire"
)

// BenchmarkFarLooks measures how long a person waits for what is told of a server at a round trip
// of 50 ms, on a connection that is open: a server with a small world, asked anew, and the sheet of
// a switch to a world of 2,000 files.
func BenchmarkFarLooks(b *testing.B) {
	for _, shape := range farShapes {
		b.Run(shape.name, func(b *testing.B) {
			s := startFar(b, shape.Shape, 50*time.Millisecond)
			_, stored := s.world("fen", 2000, 600)
			ctx := context.Background()
			for b.Loop() {
				var heads, looks []float64
				for range 5 {
					begun := time.Now()
					_, err := s.api.Server(ctx, "fen")
					require.NoError(b, err)
					heads = append(heads, float64(time.Since(begun).Milliseconds()))
				}
				s.placed(stored.ID, "fen", nil)
				for range 5 {
					begun := time.Now()
					_, err := s.api.Sheet(ctx, wire.Wish{Kind: plan.Switch, World: "fen", Server: "fen"})
					require.NoError(b, err)
					looks = append(looks, float64(time.Since(begun).Milliseconds()))
				}
				b.ReportMetric(heads[0], "first-heads-ms")
				b.ReportMetric(median(heads), "heads-ms")
				b.ReportMetric(looks[0], "first-look-ms")
				b.ReportMetric(median(looks), "look-ms")
			}
		})
	}
}
