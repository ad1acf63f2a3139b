package blobs

import (
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func keys(t *testing.T, s Store, prefix string) (out []string) {
	t.Helper()
	for info, err := range s.List(context.Background(), prefix) {
		require.NoError(t, err)
		out = append(out, info.Key)
	}
	return out
}

func TestFiles(t *testing.T) {
	t.Parallel()
	ctx, dir := context.Background(), t.TempDir()
	s, err := Files(dir)
	require.NoError(t, err)
	data := bytes.Repeat([]byte("0123456789"), 20_000)
	require.NoError(t, s.WriteAll(ctx, "packs/ab/abc", data))
	require.NoError(t, s.WriteAll(ctx, "mark.json", []byte("{}")))
	got, err := s.ReadAll(ctx, "packs/ab/abc", int64(len(data)))
	require.NoError(t, err)
	assert.Equal(t, data, got)
	_, err = s.ReadAll(ctx, "packs/ab/abc", int64(len(data))-1)
	assert.ErrorIs(t, err, ErrTooLarge)
	for _, part := range []struct{ from, n int64 }{{0, 10}, {5, 7}, {199_990, 100}, {199_995, -1}, {300_000, 5}} {
		r, err := s.Open(ctx, "packs/ab/abc", part.from, part.n)
		require.NoError(t, err)
		got, err := io.ReadAll(r)
		require.NoError(t, err)
		require.NoError(t, r.Close())
		begin := min(part.from, int64(len(data)))
		end := int64(len(data))
		if part.n >= 0 {
			end = min(end, begin+part.n)
		}
		assert.Equal(t, string(data[begin:end]), string(got), "%+v", part)
	}
	assert.Equal(t, []string{"packs/ab/abc"}, keys(t, s, "packs/"))
	assert.Equal(t, []string{"mark.json", "packs/ab/abc"}, keys(t, s, ""))
	assert.Empty(t, keys(t, s, "nothing/"))
	require.NoError(t, s.Delete(ctx, "mark.json"))
	for _, missing := range []error{
		s.Delete(ctx, "mark.json"), second(s.Stat(ctx, "mark.json")), second(s.Open(ctx, "mark.json", 0, -1)),
	} {
		assert.ErrorIs(t, missing, fs.ErrNotExist)
	}
	for _, outside := range []string{"../x", "/etc/passwd", "packs/../../x", ""} {
		assert.Error(t, s.WriteAll(ctx, outside, nil), outside)
	}
	_, err = Files(filepath.Join(dir, "not there"))
	assert.ErrorIs(t, err, fs.ErrNotExist)
	_, err = Files(filepath.Join(dir, "packs", "ab", "abc"))
	assert.ErrorContains(t, err, "not a directory")
}

func second[T any](_ T, err error) error { return err }

// Nobody sees a blob before it is whole, and of one that is given up nothing stays.
func TestABlobIsWholeOrNotThere(t *testing.T) {
	t.Parallel()
	ctx, dir := context.Background(), t.TempDir()
	s, err := Files(dir)
	require.NoError(t, err)
	require.NoError(t, s.WriteAll(ctx, "a", []byte("before")))
	ends := map[string]func(w Writer, cancel func()){
		"given up":  func(w Writer, _ func()) { w.Abort(); w.Abort(); assert.Error(t, w.Close()) },
		"cancelled": func(w Writer, cancel func()) { cancel(); assert.ErrorIs(t, w.Close(), context.Canceled) },
	}
	for name, end := range ends {
		ctx, cancel := context.WithCancel(ctx)
		w, err := s.Create(ctx, "a")
		require.NoError(t, err)
		_, err = w.Write(bytes.Repeat([]byte("x"), 100_000))
		require.NoError(t, err)
		got, err := s.ReadAll(ctx, "a", 10)
		require.NoError(t, err)
		assert.Equal(t, "before", string(got))
		end(w, cancel)
		cancel()
		left, err := os.ReadDir(dir)
		require.NoError(t, err)
		assert.Len(t, left, 1, name)
	}
}

// A place that says another size than it gives is bounded by what its reader can take.
func TestAPlaceThatLiesAboutSizes(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		said int64
		body io.Reader
		want error
	}{
		"no end":     {said: 10, body: endless{}, want: ErrTooLarge},
		"huge":       {said: 1 << 50, body: endless{}, want: ErrTooLarge},
		"negative":   {said: -1, body: endless{}, want: ErrTooLarge},
		"it breaks":  {said: 10, body: io.MultiReader(bytes.NewReader([]byte("12345")), broken{}), want: errBroken},
		"cut short":  {said: 10, body: bytes.NewReader([]byte("12345"))},
		"as it said": {said: 5, body: bytes.NewReader([]byte("12345"))},
	} {
		s := Store{Driver: liar{said: c.said, body: c.body}}
		got, err := s.ReadAll(context.Background(), "a", 1000)
		if assert.ErrorIs(t, err, c.want, name) && c.want == nil {
			assert.Equal(t, "12345", string(got), name)
		}
	}
}

type liar struct {
	Driver
	said int64
	body io.Reader
}

func (l liar) Open(context.Context, string, int64, int64) (io.ReadCloser, error) {
	return io.NopCloser(l.body), nil
}
func (l liar) Stat(context.Context, string) (Info, error) { return Info{Size: l.said}, nil }

var errBroken = errors.New("the line broke")

type endless struct{}

func (endless) Read(p []byte) (int, error) { return len(p), nil }

type broken struct{}

func (broken) Read([]byte) (int, error) { return 0, errBroken }
