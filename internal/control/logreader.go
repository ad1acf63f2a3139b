package control

import (
	"context"
	"strings"

	"reshard/internal/core/game"
)

// longestLine bounds one line of a log that is kept or matched, in bytes.
const longestLine = 4096

// mostRefused is how many refusals of a run are kept: the first ones say why.
const mostRefused = 100

// logReader reads a run's log as it grows and keeps what the profile's patterns
// find in it. It begins anew when it is given another run.
type logReader struct {
	run     string
	offset  int64
	partial string
	ready   bool
	opened  string
	version string
	refused []string
	tail    []string // the last lines
	// over says that it was read to its end when its process was gone: nothing more comes.
	over bool
	buf  []byte // what is read into
}

// read reads on in the log of a run. An error leaves what was read before.
func (l *logReader) read(ctx context.Context, d Driver, run string, p *game.Profile) error {
	if run != l.run {
		*l = logReader{run: run, buf: l.buf}
	}
	if run == "" {
		return nil
	}
	if l.buf == nil {
		l.buf = make([]byte, 32<<10)
	}
	for buf := l.buf; ; {
		n, err := d.ReadLog(ctx, run, buf, l.offset)
		if err != nil || n == 0 {
			return err
		}
		l.offset += int64(n)
		parts := strings.Split(l.partial+string(buf[:n]), "\n")
		l.partial = parts[len(parts)-1]
		if len(l.partial) > longestLine {
			l.partial = l.partial[:longestLine]
		}
		for _, line := range parts[:len(parts)-1] {
			l.line(cleanLine(line), p)
		}
	}
}

func (l *logReader) line(line string, p *game.Profile) {
	console := p.Server.Console
	if _, ok := console.Ready.Find(line); ok {
		l.ready = true
	}
	if groups, ok := console.Opened.Find(line); ok {
		l.opened = groups["world"]
	}
	if groups, ok := console.Version.Answer.Find(line); ok && console.Version.Say == "" {
		l.version = groups["value"]
	}
	_, harmless := console.Harmless.Find(line)
	if _, ok := console.Refused.Find(line); ok && !harmless && len(l.refused) < mostRefused {
		l.refused = append(l.refused, line)
	}
	if strings.TrimSpace(line) == "" {
		return
	}
	l.tail = append(l.tail, line)
	if len(l.tail) > 20 {
		l.tail = l.tail[1:]
	}
}

// cleanLine cuts a line to a length and takes out control characters: a log is
// shown in terminals.
func cleanLine(s string) string {
	if len(s) > longestLine {
		s = s[:longestLine]
	}
	return strings.Map(func(r rune) rune {
		if r < ' ' && r != '\t' || r == 0x7f {
			return -1
		}
		return r
	}, strings.ToValidUTF8(s, "�"))
}

// linesFrom reads a run's whole lines from an offset.
func linesFrom(ctx context.Context, d Driver, run string, from int64) []string {
	var b strings.Builder
	buf := make([]byte, 32<<10)
	for {
		n, err := d.ReadLog(ctx, run, buf, from)
		if err != nil || n == 0 {
			break
		}
		b.Write(buf[:n])
		from += int64(n)
	}
	lines := strings.Split(b.String(), "\n")
	return lines[:len(lines)-1]
}
