package fleet

import (
	"context"
	"strconv"

	"reshard/internal/core/fault"
)

// Joined asks the running server how many people play on it; known is false where it cannot be asked.
func (l *Server) Joined(ctx context.Context) (n int, known bool, err error) {
	ask := l.Profile.Server.Console.Joined
	if ask.Say == "" {
		return 0, false, nil
	}
	answer, err := l.Control.Ask(ctx, ask)
	if err != nil {
		return 0, true, err
	}
	if n, err = strconv.Atoi(answer); err != nil {
		return 0, true, fault.New(fault.BadProfile, "ask "+ask.Say+" of", l.Name, "the answer %q is no number", answer)
	}
	return n, true, nil
}
