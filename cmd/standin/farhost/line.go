package farhost

import (
	"bytes"
	"net"
	"sync"
	"time"
)

// Line is a way to a machine that passes everything on, after a while, and can be made to
// misbehave.
type Line struct {
	ways []way

	mu      sync.Mutex
	half    time.Duration // each way
	refuses bool
	stalled bool
	changed *sync.Cond
	conns   map[net.Conn]bool
	passed  int64 // bytes towards the machine
	cutAt   int64 // cuts when so many have passed; 0: never
	atCut   func()
}

// way is one of a line's: where it begins, and where it ends.
type way struct {
	net.Listener
	to string
}

// NewLine makes a line to an address, with a round trip that long.
func NewLine(to string, roundTrip time.Duration) (*Line, error) {
	return newLine(roundTrip, [2]string{"127.0.0.1:0", to})
}

// newLine makes a line of several ways, each from an address to another.
func newLine(roundTrip time.Duration, ways ...[2]string) (*Line, error) {
	p := &Line{half: roundTrip / 2, conns: map[net.Conn]bool{}}
	p.changed = sync.NewCond(&p.mu)
	for _, w := range ways {
		l, err := net.Listen("tcp", w[0])
		if err != nil {
			p.Close()
			return nil, err
		}
		p.ways = append(p.ways, way{l, w[1]})
		go p.accept(p.ways[len(p.ways)-1])
	}
	return p, nil
}

// Port and Address are where the line begins.
func (p *Line) Port() int       { return p.ways[0].Addr().(*net.TCPAddr).Port }
func (p *Line) Address() string { return p.ways[0].Addr().(*net.TCPAddr).IP.String() }

// Close ends the line.
func (p *Line) Close() {
	for _, w := range p.ways {
		_ = w.Close() // nobody comes any more
	}
	p.Stall(false)
	p.Cut()
}

// Refuse has connections end as soon as they are made, or lets them in again.
func (p *Line) Refuse(on bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.refuses = on
}

// Stall has nothing pass any more, without a word to either end, or goes on.
func (p *Line) Stall(on bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.stalled = on
	p.changed.Broadcast()
}

// Cut ends all connections that there are.
func (p *Line) Cut() {
	p.mu.Lock()
	defer p.mu.Unlock()
	for c := range p.conns {
		_ = c.Close() // it may have ended
	}
}

// Passed is how many bytes have gone towards the machine.
func (p *Line) Passed() int64 {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.passed
}

// CutAfter cuts once so many more bytes have gone towards the machine, and then calls at,
// which may be nil.
func (p *Line) CutAfter(bytes int64, at func()) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.cutAt, p.atCut = p.passed+bytes, at
}

func (p *Line) accept(w way) {
	for {
		c, err := w.Accept()
		if err != nil {
			return
		}
		p.mu.Lock()
		if !p.refuses {
			p.conns[c] = true // known before anybody can cut: none gets through
		}
		refuses := p.refuses
		p.mu.Unlock()
		if refuses {
			_ = c.Close()
			continue
		}
		go p.serve(c, w.to)
	}
}

func (p *Line) serve(near net.Conn, to string) {
	far, err := net.Dial("tcp", to)
	if err != nil {
		_ = near.Close()
		p.mu.Lock()
		delete(p.conns, near)
		p.mu.Unlock()
		return
	}
	p.mu.Lock()
	p.conns[far] = true
	p.mu.Unlock()
	var both sync.WaitGroup
	both.Go(func() { p.pass(far, near, true) })
	both.Go(func() { p.pass(near, far, false) })
	both.Wait()
	p.mu.Lock()
	delete(p.conns, near)
	delete(p.conns, far)
	p.mu.Unlock()
}

// parcel is what goes over the line at once.
type parcel struct {
	data []byte
	due  time.Time
}

// pass carries bytes one way until either end has gone.
func (p *Line) pass(to, from net.Conn, towards bool) {
	queue := make(chan parcel, 4096)
	go func() {
		defer close(queue)
		for buf := make([]byte, 64<<10); ; {
			n, err := from.Read(buf)
			if n > 0 {
				queue <- parcel{bytes.Clone(buf[:n]), time.Now().Add(p.half)}
			}
			if err != nil {
				return
			}
		}
	}()
	for one := range queue {
		time.Sleep(time.Until(one.due))
		if !p.wait(int64(len(one.data)), towards) {
			break
		}
		if _, err := to.Write(one.data); err != nil {
			break
		}
	}
	_ = to.Close() // one end gone is the end of both
	_ = from.Close()
	for range queue { //nolint:revive // what is under way is lost
	}
}

// wait waits while the line stalls, and tells whether it still passes.
func (p *Line) wait(n int64, towards bool) bool {
	p.mu.Lock()
	for p.stalled {
		p.changed.Wait()
	}
	if !towards {
		p.mu.Unlock()
		return true
	}
	p.passed += n
	at := p.atCut
	cut := p.cutAt > 0 && p.passed >= p.cutAt
	if cut {
		p.cutAt, p.atCut = 0, nil
	}
	p.mu.Unlock()
	if cut {
		p.Cut()
		if at != nil {
			at()
		}
	}
	return !cut
}
