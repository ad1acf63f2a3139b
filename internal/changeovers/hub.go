package changeovers

import (
	"sync"

	"reshard/internal/core/plan"
)

// hub hands progress to whoever watches.
type hub struct {
	mu      sync.Mutex
	last    map[int64]plan.Progress
	cancels map[int64]func()
	subs    map[int64]map[chan struct{}]bool
}

// publish keeps the newest progress and wakes watchers; it never blocks.
func (h *hub) publish(p plan.Progress) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.last == nil {
		h.last = map[int64]plan.Progress{}
	}
	h.last[p.ID] = p
	for c := range h.subs[p.ID] {
		select {
		case c <- struct{}{}:
		default: // a wake-up is pending already, and the newest snapshot says all
		}
	}
}

// track remembers how to cancel a changeover that begins to run.
func (h *hub) track(id int64, cancel func()) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.cancels == nil {
		h.cancels = map[int64]func(){}
	}
	h.cancels[id] = cancel
}

// cancel cancels a running changeover; false when it does not run here.
func (h *hub) cancel(id int64) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	cancel, ok := h.cancels[id]
	if ok {
		cancel()
	}
	return ok
}

func (h *hub) latest(id int64) (plan.Progress, bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	p, ok := h.last[id]
	return p, ok
}

func (h *hub) subscribe(id int64) (wake chan struct{}, leave func()) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.subs == nil {
		h.subs = map[int64]map[chan struct{}]bool{}
	}
	if h.subs[id] == nil {
		h.subs[id] = map[chan struct{}]bool{}
	}
	wake = make(chan struct{}, 1)
	h.subs[id][wake] = true
	return wake, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		delete(h.subs[id], wake)
		if len(h.subs[id]) == 0 {
			delete(h.subs, id)
		}
	}
}

// forget drops an ended changeover's progress; the journal has it all.
func (h *hub) forget(id int64) {
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.last, id)
	delete(h.cancels, id)
	for c := range h.subs[id] {
		select {
		case c <- struct{}{}:
		default:
		}
	}
}
