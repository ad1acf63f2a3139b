package sshlink

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"io"
	"strconv"
	"strings"
	"sync"

	"golang.org/x/crypto/ssh"

	"reshard/internal/core/fault"
	"reshard/internal/line"
)

// shell is a sh(1) that stays and runs one short command after the other: a session of its own
// for each costs several round trips and a sign-in's worth of processes.
type shell struct {
	session   *ssh.Session
	release   func()
	in        io.WriteCloser
	out, said *marked
	freed     sync.Once
}

// Short runs a command that is soon over, as Run does, in a shell that is kept for that. in is
// what it reads. When another is at it, it gets a session of its own.
func (l *Link) Short(ctx context.Context, command, in string) (Result, error) {
	n, err := l.connect(ctx)
	if err != nil {
		return Result{}, err
	}
	select {
	case n.shelled <- struct{}{}:
	default:
		return l.Run(ctx, command, strings.NewReader(in), nil)
	}
	defer func() { <-n.shelled }()
	n.touch()
	if n.shell == nil {
		if n.shell, err = l.openShell(ctx, n); err != nil {
			if fault.CodeOf(err) == fault.Unreachable { // there may be no room for it, or no shell
				return l.Run(ctx, command, strings.NewReader(in), nil)
			}
			return Result{}, err
		}
	}
	sh := n.shell
	r, err := line.Bounded(ctx, func() (Result, error) { return sh.run(command, in) })
	if err != nil {
		sh.end()
		n.shell = nil
		if fault.Ended(err) == "" {
			err = l.Lost(err)
		}
	}
	return r, err
}

func (l *Link) openShell(ctx context.Context, n *connection) (*shell, error) {
	s, release, err := l.session(ctx, n)
	if err != nil {
		return nil, err
	}
	sh := &shell{session: s, release: release}
	var out, said io.Reader
	sh.in, err = s.StdinPipe()
	if err == nil {
		out, err = s.StdoutPipe()
	}
	if err == nil {
		said, err = s.StderrPipe()
	}
	if err == nil {
		_, err = line.Bounded(ctx, func() (nothing, error) { return nothing{}, s.Start("sh") })
	}
	if err != nil {
		sh.end()
		return nil, l.Lost(err)
	}
	sh.out, sh.said = newMarked(out), newMarked(said)
	go func() {
		<-n.dead
		sh.end()
	}()
	// What is printed at a sign-in comes before the first mark.
	if _, err := line.Bounded(ctx, func() (Result, error) { return sh.run(":", "") }); err != nil {
		sh.end()
		return nil, l.Lost(err)
	}
	return sh, nil
}

func (s *shell) end() {
	_ = s.session.Close() // it ends whatever the outcome
	s.freed.Do(s.release)
}

// run has the shell run a command, and marks the end of what it prints, on both its outputs, by
// something that the command cannot know.
func (s *shell) run(command, in string) (Result, error) {
	var id [16]byte
	_, _ = rand.Read(id[:]) // it never fails (crypto/rand)
	mark := "reshard-" + hex.EncodeToString(id[:])
	from := "< /dev/null"
	head := ""
	if in != "" {
		head, from = "printf %s "+Quote(in)+" | ", ""
	}
	text := head + command + " " + from + "\nprintf '\\n%s %d\\n' " + mark + " $?\nprintf '\\n%s 0\\n' " + mark +
		" >&2\n"
	if _, err := io.WriteString(s.in, text); err != nil {
		return Result{}, err
	}
	said := make(chan outcome, 1)
	go func() {
		_, o := s.said.until(mark, 4096)
		said <- o
	}()
	code, out := s.out.until(mark, mostOutput)
	e := <-said
	if err := errors.Join(out.err, e.err); err != nil {
		return Result{}, err
	}
	if out.more {
		return Result{}, fault.New(fault.TooLarge, "run a command", "", "it prints more than %d MB", mostOutput>>20)
	}
	if code > 128 && code < 128+65 {
		code = -1
	}
	return Result{Out: out.text, Err: strings.TrimSpace(string(e.text)), Code: code}, nil
}

// Quote makes a word of the shell of any text (sh(1)).
func Quote(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

// outcome is what came before a mark.
type outcome struct {
	text []byte
	more bool // there was more than is kept
	err  error
}

// marked reads an output in the parts that marks part.
type marked struct {
	from io.Reader
	rest []byte
}

func newMarked(r io.Reader) *marked { return &marked{from: r} }

// until reads up to a mark, and gives what stood before it and the number after it. At most
// most bytes are kept.
func (m *marked) until(mark string, most int) (code int, o outcome) {
	head := []byte("\n" + mark + " ")
	buf := make([]byte, 32<<10)
	for {
		if i := bytes.Index(m.rest, head); i >= 0 {
			after := m.rest[i+len(head):]
			if end := bytes.IndexByte(after, '\n'); end >= 0 {
				code, o.err = strconv.Atoi(string(after[:end]))
				o.keep(m.rest[:i], most)
				m.rest = bytes.Clone(after[end+1:])
				return code, o
			}
		} else if spare := len(m.rest) - len(head); spare > 64<<10 { // the mark may have begun
			o.keep(m.rest[:spare], most)
			m.rest = bytes.Clone(m.rest[spare:])
		}
		n, err := m.from.Read(buf)
		m.rest = append(m.rest, buf[:n]...)
		if err != nil && n == 0 {
			o.err = err
			return 0, o
		}
	}
}

func (o *outcome) keep(p []byte, most int) {
	room := max(0, most-len(o.text))
	o.text = append(o.text, p[:min(room, len(p))]...)
	o.more = o.more || len(p) > room
}
