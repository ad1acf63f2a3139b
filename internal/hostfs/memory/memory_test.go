package memory_test

import (
	"context"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/capability"
	"reshard/internal/core/fault"
	"reshard/internal/hostfs"
	"reshard/internal/hostfs/hostfstest"
	"reshard/internal/hostfs/memory"
)

func harness(can capability.Set) hostfstest.Harness {
	return hostfstest.Harness{
		Can: can,
		Open: func(*testing.T) hostfs.Driver {
			f := memory.New()
			f.Can = can
			var away atomic.Bool
			f.Before = func(string, string) error {
				if away.Load() {
					return fault.New(fault.Unreachable, "", "", "it went away")
				}
				return nil
			}
			return &leaver{f, &away}
		},
		Away: func(_ *testing.T, d hostfs.Driver) func() {
			d.(*leaver).away.Store(true)
			return func() { d.(*leaver).away.Store(false) }
		},
	}
}

type leaver struct {
	*memory.Files
	away *atomic.Bool
}

func TestConformance(t *testing.T) {
	t.Parallel()
	hostfstest.Run(t, harness(memory.All))
}

// A host that can do little is still one.
func TestConformanceOfAPoorHost(t *testing.T) {
	t.Parallel()
	hostfstest.Run(t, harness(capability.Set{
		AtomicReplace: true,
		RenameFolders: true,
		TimePrecision: time.Second,
		Pace:          time.Second,
	}))
}

// A host that never answers is given up after the place's patience, and what it was
// asked may be tried again.
func TestPatience(t *testing.T) {
	t.Parallel()
	f := memory.New()
	release := make(chan struct{})
	f.Before = func(op, _ string) error {
		if op == "write" {
			<-release
		}
		return nil
	}
	p := hostfs.New("host", f)
	p.Patience = 20 * time.Millisecond
	time.AfterFunc(2*time.Second, func() { close(release) }) // what is written to waits for it too
	_, err := p.Write(context.Background(), "f", strings.NewReader("x"), hostfs.Attributes{})
	assert.ErrorIs(t, err, fault.TooSlow.As())
	assert.True(t, fault.Passing(err))
	assert.ErrorContains(t, err, "host/f: the host did not answer in time")
}

// A full disk has its own code, and the half that arrived is there.
func TestFullDisk(t *testing.T) {
	t.Parallel()
	f := memory.New()
	f.Fill(10)
	p := hostfs.New("host", f)
	_, err := p.Write(context.Background(), "f", strings.NewReader(strings.Repeat("x", 16)), hostfs.Attributes{})
	assert.ErrorIs(t, err, fault.NoSpace.As())
	require.Zero(t, p.Free(context.Background(), "."))
	info, err := p.Stat(context.Background(), "f")
	require.NoError(t, err)
	assert.EqualValues(t, 10, info.Bytes)
}

// A host whose answer to a list is half of it proves nothing by what is not in it.
func TestAbsenceNeedsAWholeList(t *testing.T) {
	t.Parallel()
	f := memory.New()
	p := hostfs.New("host", f)
	ctx := context.Background()
	require.NoError(t, p.MkdirAll(ctx, "worlds/fen", hostfs.Attributes{}))
	f.Before = func(op, name string) error {
		if op == "stat" && name == "worlds/fen" {
			return fault.New(fault.NotFound, "", "", "an answer that is not true")
		}
		return nil
	}
	there, err := p.Exists(ctx, "worlds/fen")
	require.NoError(t, err)
	assert.True(t, there, "the list of the folder has it")
	f.Before = func(op, _ string) error {
		if op == "list" {
			return fault.New(fault.Unreachable, "", "", "the line was cut")
		}
		return nil
	}
	_, err = p.Exists(ctx, "worlds/bog")
	assert.ErrorIs(t, err, fault.Unreachable.As(), "not found is not enough")
}
