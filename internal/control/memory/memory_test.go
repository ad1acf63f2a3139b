package memory_test

import (
	"sync/atomic"
	"testing"

	"reshard/internal/control"
	"reshard/internal/control/controltest"
	"reshard/internal/control/memory"
	"reshard/internal/core/fault"
	"reshard/internal/core/life"
)

// simple is the game that the suite asks for.
type simple struct{}

func (simple) Begin(say func(string)) int {
	say("opened fen")
	say("ready")
	return memory.On
}

func (simple) Hear(line string, say func(string)) int {
	switch line {
	case "seed":
		say("seed is -7")
	case "halt":
		say("all written")
		return 0
	case "crash":
		return 3
	}
	return memory.On
}

func (simple) Feel(control.Signal, func(string)) int { return 130 }

func TestConformance(t *testing.T) {
	t.Parallel()
	type server struct {
		*memory.Server
		away, broken *atomic.Bool
	}
	controltest.Run(t, controltest.Harness{
		Down: life.Absent,
		Open: func(*testing.T) control.Driver {
			s := server{memory.New(simple{}), &atomic.Bool{}, &atomic.Bool{}}
			s.Before = func(op string) error {
				if s.away.Load() || (s.broken.Load() && op == "start") {
					return fault.New(fault.Unreachable, "", "", "it went away")
				}
				return nil
			}
			return s
		},
		Again: func(_ *testing.T, d control.Driver) control.Driver { return d },
		Break: func(_ *testing.T, d control.Driver) func() {
			d.(server).broken.Store(true)
			return func() { d.(server).broken.Store(false) }
		},
		Away: func(_ *testing.T, d control.Driver) func() {
			d.(server).away.Store(true)
			return func() { d.(server).away.Store(false) }
		},
	})
}
