package hand_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/games"
	"reshard/internal/control"
	"reshard/internal/control/hand"
	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/core/life"
)

func TestAServerInPeoplesHands(t *testing.T) {
	t.Parallel()
	shipped, err := games.Find("quarrymoss")
	require.NoError(t, err)
	p := *shipped
	p.Server.Waits = game.Waits{Start: 300 * time.Millisecond, Stop: 300 * time.Millisecond, Settle: time.Millisecond}
	c := control.New("north", hand.New("north"), &p)
	ctx := context.Background()

	st := c.Status(ctx)
	assert.Equal(t, life.Unknown, st.State, "nobody has said anything")
	assert.Contains(t, st.Cause, "only people can see whether it runs")
	_, err = c.Start(ctx)
	assert.ErrorIs(t, err, fault.StateUnknown.As())

	require.NoError(t, c.TakeWord(ctx, "Edda", life.Running))
	st = c.Status(ctx)
	assert.Equal(t, life.Running, st.State)
	assert.Equal(t, "the word of Edda", st.Process)
	assert.True(t, st.Unheard)

	// A stop asks a person, and what they are asked to do is what the state says.
	_, err = c.Stop(ctx, control.Clean)
	assert.ErrorIs(t, err, fault.StateUnknown.As())
	st = c.Status(ctx)
	assert.Equal(t, life.Unknown, st.State)
	assert.Contains(t, st.Cause, "a person has been asked to stop it")
	_, err = c.Stop(ctx, control.Clean)
	assert.ErrorIs(t, err, fault.StateUnknown.As(), "it is not taken for stopped")
	require.NoError(t, c.TakeWord(ctx, "Runa", life.Stopped))
	end, err := c.Stop(ctx, control.Clean)
	require.NoError(t, err)
	assert.Equal(t, life.Word, end.Evidence)
	assert.Equal(t, "Runa", end.By)
	assert.False(t, end.Clean)

	// Likewise a start, also while it is waited for.
	go func() {
		time.Sleep(100 * time.Millisecond)
		_ = c.TakeWord(ctx, "Edda", life.Running)
	}()
	_, err = c.Start(ctx)
	require.NoError(t, err)
	assert.Equal(t, life.Running, c.Status(ctx).State)
	assert.ErrorIs(t, c.Tell(ctx, game.Exchange{Say: "hold"}, time.Second), fault.Unsupported.As())
}
