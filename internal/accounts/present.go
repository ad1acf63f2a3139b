package accounts

import (
	"context"
	"crypto/sha256"
	"strings"
	"sync"

	"reshard/internal/core/fault"
)

// present knows who is asking the service for something right now, so that it ends with the
// right to ask. It is safe for concurrent use.
type present struct {
	mu   sync.Mutex
	here map[*visit]bool
}

type visit struct {
	user string
	key  [sha256.Size]byte
	end  context.CancelCauseFunc
}

var errEnded = fault.New(fault.Denied, "sign in", "", "the session or token is not valid any more")

// Stay gives a context that ends when the user of a secret is removed, or the secret is. leave
// is called when what was asked for has been done.
func (acc *Accounts) Stay(ctx context.Context, user, secret string) (staying context.Context, leave func()) {
	staying, end := context.WithCancelCause(ctx)
	v := &visit{user: user, key: sha256.Sum256([]byte(secret)), end: end}
	acc.present.mu.Lock()
	acc.present.here[v] = true
	acc.present.mu.Unlock()
	return staying, func() {
		acc.present.mu.Lock()
		delete(acc.present.here, v)
		acc.present.mu.Unlock()
		end(nil)
	}
}

// end ends what those ask for of whom gone is true.
func (p *present) end(gone func(*visit) bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for v := range p.here {
		if gone(v) {
			v.end(errEnded)
		}
	}
}

func (p *present) endOf(user string) {
	p.end(func(v *visit) bool { return strings.EqualFold(v.user, user) })
}
