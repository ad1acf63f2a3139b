package bench

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/quarrymoss"
)

// BenchmarkPicture2000 asks for the picture of a copy of 2,000 tiles that has not been
// drawn before, three times, each of another copy: read from the vault, verified, drawn,
// packed as PNG and sent.
func BenchmarkPicture2000(b *testing.B) {
	s := setup(b)
	dir := filepath.Join(s.dir, "made")
	require.NoError(b, os.Mkdir(dir, 0o755))
	var took []float64
	for b.Loop() {
		for i := range rounds {
			name := fmt.Sprintf("fen%d-%d", len(took), i)
			require.NoError(b, quarrymoss.Make(filepath.Join(dir, name),
				quarrymoss.Options{
					Title: name, Seed: int64(100*len(took) + i + 1), Tiles: size(2000, 20),
					TileBytes: size(12_000, 1200),
				}))
			stored := s.send(dir, name)
			begun := time.Now()
			body, err := s.api.Picture(context.Background(), stored.ID, false)
			require.NoError(b, err)
			_, err = io.Copy(io.Discard, body)
			require.NoError(b, err)
			require.NoError(b, body.Close())
			took = append(took, float64(time.Since(begun).Milliseconds()))
		}
	}
	b.ReportMetric(median(took), "picture-ms")
	b.ReportMetric(s.peakMemory(), "service-MB")
	b.ReportMetric(0, "ns/op")
}
