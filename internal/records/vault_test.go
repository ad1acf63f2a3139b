package records_test

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/vault"
)

func named(b byte) (n vault.Name) { n[0] = b; return n }

func packOf(id string, names ...byte) vault.Pack {
	p := vault.Pack{ID: id, Bytes: 1000}
	for i, b := range names {
		p.Entries = append(p.Entries, vault.Entry{
			Kind:     vault.ChunkKind,
			Name:     named(b),
			Position: vault.Position{Pack: id, Start: int64(100 * i), Stored: 10, Coding: 1, Size: 20},
		})
	}
	return p
}

// The index in the database and the one in memory say the same after the same.
func TestVaultIndexIsLikeTheOneInMemory(t *testing.T) {
	t.Parallel()
	r, _ := setup(t)
	ctx := context.Background()
	old, young := time.Now().Add(-time.Hour).UTC().Truncate(time.Second), time.Now().UTC().Truncate(time.Second)
	keeping := func(names ...byte) func(func(vault.Kind, vault.Name) error) error {
		return func(need func(vault.Kind, vault.Name) error) error {
			for _, b := range names {
				if err := need(vault.ChunkKind, named(b)); err != nil {
					return err
				}
			}
			return nil
		}
	}
	var told [2][]any
	for i, x := range []vault.Index{vault.NewMemory(), r.VaultIndex()} {
		tell := func(v ...any) { told[i] = append(told[i], v...) }
		look := func() {
			packs, err := x.Packs(ctx)
			require.NoError(t, err)
			for _, p := range packs {
				entries, err := x.Entries(ctx, p.ID)
				require.NoError(t, err)
				tell(p.ID, p.Bytes, p.Known, p.Entries, p.Made.UTC(), entries)
			}
			found, err := x.Find(ctx, vault.ChunkKind, []vault.Name{named(1), named(4), named(9)})
			require.NoError(t, err)
			tell(found)
			n := 0
			require.NoError(t, x.Names(ctx, vault.ChunkKind, func(vault.Name) { n++ }))
			tell(n)
		}
		require.NoError(t, x.Add(ctx, []vault.Pack{packOf("a", 1, 2, 3), packOf("b", 3, 4)}, old))
		require.NoError(t, x.Add(ctx, []vault.Pack{packOf("c", 1, 5)}, young))
		look()
		_, _, err := x.Forget(ctx, func(func(vault.Kind, vault.Name) error) error {
			return errors.New("a copy does not read")
		}, young)
		require.Error(t, err)
		look()
		n, bytes, err := x.Forget(ctx, keeping(1, 3), young)
		require.NoError(t, err)
		tell(n, bytes)
		look()
		require.NoError(t, x.Move(ctx, []string{"a"}, []vault.Pack{packOf("d", 1, 3)}))
		require.NoError(t, x.Remove(ctx, "b"))
		look()
		require.NoError(t, x.Drop(ctx, packOf("d", 1).Entries))
		look()
		require.NoError(t, x.Clear(ctx))
		look()
	}
	assert.Equal(t, told[0], told[1])
	assert.Len(t, told[0], 104)
}
