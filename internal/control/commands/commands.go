// Package commands is a game server that is started, stopped, watched and spoken to by
// commands over SSH: those of a process in a session of a terminal multiplexer, of a systemd
// unit, or those that a person has given for the server.
package commands

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/pkg/sftp"

	"reshard/internal/control"
	"reshard/internal/core/fault"
	"reshard/internal/core/life"
	"reshard/internal/core/server"
	"reshard/internal/line"
	"reshard/internal/sshlink"
)

// Spec is how a server is controlled: its Means, of which By says which of them count. LogFile
// is absolute, or "" when the log is the server's output. Commands of its own are run by sh in the
// server's folder.
type Spec struct {
	server.Means
	Name    string // of the server, for messages
	Dir     string // its folder on the host, absolute
	Program []string
	Env     map[string]string
}

// form is one way of control, as the commands for it.
type form interface {
	state() string
	// seen understands what state gave.
	seen(r sshlink.Result) (control.Sight, error)
	start(run string) string
	// started understands what start gave; an error has code WrongState when the server ran.
	started(r sshlink.Result) error
	stop() string                                // "": as the game's profile says
	say(line string) (command, in string)        // command "": there is no way
	signal(s control.Signal) (command string)    // "": there is no way
	log(run string, from int64) (command string) // "": it is a file of the run
	logFile(run string) string                   // "": there is none
}

// Driver controls one server. It implements control.Driver.
type Driver struct {
	link *sshlink.Link
	spec Spec
	form form

	starting chan struct{} // has room for who starts

	mu sync.Mutex // held for moments only
	// open is the log that is read, in run's name.
	open *openLog
}

type openLog struct {
	run    string
	client *sftp.Client
	file   *sftp.File
}

// New makes a driver.
func New(link *sshlink.Link, s Spec) *Driver {
	d := &Driver{link: link, spec: s, starting: make(chan struct{}, 1)}
	switch s.By {
	case server.BySession:
		d.form = session{s}
	case server.ByUnit:
		d.form = unit{s}
	case server.ByCommands, server.ByHand, server.ByProcess, server.ByProvider, "":
		d.form = own{s}
	}
	return d
}

// script is a command that runs a script by sh, whatever the account's own shell is.
func script(text string, args ...string) string {
	out := "sh -c " + sshlink.Quote(text) + " sh"
	for _, a := range args {
		out += " " + sshlink.Quote(a)
	}
	return out
}

// run runs a command. What the shell itself says when it cannot is Unreachable: nothing is
// known then.
func (d *Driver) run(ctx context.Context, op, command, in string) (sshlink.Result, error) {
	r, err := d.link.Short(ctx, command, in)
	if err != nil {
		return r, err
	}
	if r.Code == 126 || r.Code == 127 {
		return r, fault.New(fault.Unreachable, op, d.spec.Name, "its host cannot run the command (%s)", words(r)).
			With("Look at the server's commands: reshard servers show " + d.spec.Name + ".")
	}
	return r, nil
}

// words is what a command said, in short, for people.
func words(r sshlink.Result) string {
	text := r.Err
	if text == "" {
		text = strings.TrimSpace(string(r.Out))
	}
	if i := strings.IndexByte(text, '\n'); i >= 0 {
		text = text[:i]
	}
	if len(text) > 200 {
		text = text[:200]
	}
	text = strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return -1
		}
		return r
	}, strings.ToValidUTF8(text, "?"))
	code := "code " + strconv.Itoa(r.Code)
	if text == "" {
		return code
	}
	return code + ": " + text
}

// Look implements control.Driver.
func (d *Driver) Look(ctx context.Context) (control.Sight, error) {
	r, err := d.run(ctx, "look at", d.form.state(), "")
	if fault.CodeOf(err) == fault.Unreachable && ctx.Err() == nil { // hosts end connections that nobody uses
		r, err = d.run(ctx, "look at", d.form.state(), "")
	}
	if err != nil {
		return control.Sight{}, err
	}
	seen, err := d.form.seen(r)
	if err != nil {
		return control.Sight{}, fault.Wrap(fault.Unreachable, "look at", d.spec.Name, err)
	}
	if seen.Process != nil && seen.Run == "" {
		seen.Process.Ready = true // nobody can hear it
	}
	return seen, nil
}

// Start implements control.Driver.
func (d *Driver) Start(ctx context.Context) error {
	select {
	case d.starting <- struct{}{}:
		defer func() { <-d.starting }()
	case <-ctx.Done():
		return ctx.Err()
	}
	seen, err := d.Look(ctx)
	if err != nil {
		return err
	}
	if seen.Process != nil {
		return fault.New(fault.WrongState, "run", d.spec.Name, "it runs already: %s", seen.Process.Says)
	}
	if err := d.markLog(ctx); err != nil {
		return err
	}
	r, err := d.run(ctx, "start", d.form.start(newRun()), "")
	if err != nil {
		return err
	}
	return d.form.started(r)
}

// newRun names a run; the names are in the order of the runs.
func newRun() string { return leftPad(strconv.FormatInt(time.Now().UnixNano(), 10), 19) }

func leftPad(s string, n int) string { return strings.Repeat("0", max(0, n-len(s))) + s }

// Stop implements control.Stopper: the server's own command for it, where there is one.
func (d *Driver) Stop(ctx context.Context) error {
	command := d.form.stop()
	if command == "" {
		return fault.New(fault.Unsupported, "stop", d.spec.Name, "it has no command of its own for that")
	}
	r, err := d.run(ctx, "stop", command, "")
	if err == nil && r.Code != 0 {
		err = fault.New(fault.NotStopped, "stop", d.spec.Name, "its command for that failed (%s)", words(r))
	}
	return err
}

// HasStop implements control.Stopper.
func (d *Driver) HasStop() bool { return d.form.stop() != "" }

// Say implements control.Speaker.
func (d *Driver) Say(ctx context.Context, line string) error {
	if strings.ContainsFunc(line, func(r rune) bool { return r < ' ' && r != '\t' || r == 0x7f }) {
		return fault.New(fault.Invalid, "say to", d.spec.Name, "a line of a console holds no control characters")
	}
	command, in := d.form.say(line)
	if command == "" {
		return fault.New(fault.Unsupported, "speak to", d.spec.Name, "there is no way to its console").
			With("Give the server a command for that: reshard servers change " + d.spec.Name + " --say COMMAND.")
	}
	r, err := d.run(ctx, "speak to", command, in)
	if err == nil && r.Code != 0 {
		err = fault.New(fault.WrongState, "speak to", d.spec.Name, "its console is not there (%s)", words(r))
	}
	return err
}

// Signal implements control.Speaker.
func (d *Driver) Signal(ctx context.Context, s control.Signal) error {
	seen, err := d.Look(ctx)
	if err != nil || seen.Process == nil {
		return err
	}
	command := d.form.signal(s)
	if command == "" {
		return fault.New(fault.Unsupported, "signal", d.spec.Name, "there is no way to send it one").
			With("Give the server a command for that: reshard servers change " + d.spec.Name + " --signal COMMAND.")
	}
	r, err := d.run(ctx, "signal", command, "")
	if err == nil && r.Code != 0 {
		err = fault.New(fault.Refused, "signal", d.spec.Name, "its host does not send it (%s)", words(r))
	}
	return err
}

// Pace implements control.Driver: a look is a command.
func (d *Driver) Pace() time.Duration { return 250 * time.Millisecond }

// logMark is shell code that tells which file $f is and how it stands: its number, its birth, its
// size, when it was changed, and how it begins and what stands before $1, its end if that is empty.
const logMark = `mark() {
  set -- "$1" $(stat -c '%i %W %s' "$f" 2>/dev/null || echo 0 0 0)
  when=$(stat -c %y "$f" 2>/dev/null | tr -d ' ')
  end=${1:-$4}
  [ "$end" -le "$4" ] || end=$4
  n=$(( end < 512 ? end : 512 ))
  echo "$2 $3 $4 ${when:--}"
  head -c "$n" "$f" 2>/dev/null | cksum
  tail -c +"$(( end - n + 1 ))" "$f" 2>/dev/null | head -c "$n" | cksum
}
`

// markLog notes on the host, before a start, how a log file stands that the game goes on writing
// over its runs: what comes after that is the next run's.
func (d *Driver) markLog(ctx context.Context) error {
	if d.spec.LogFile == "" {
		return nil
	}
	r, err := d.run(ctx, "read the log of", script(logMark+`cd "$1" && mkdir -p `+consoleFolder+` || exit 5
f=$2; mark "" > `+consoleFolder+`/log.from.new && mv `+consoleFolder+`/log.from.new `+consoleFolder+`/log.from`,
		d.spec.Dir, d.spec.LogFile), "")
	if err == nil && r.Code != 0 {
		err = fault.New(fault.Refused, "read the log of", d.spec.Name, "where it ends cannot be noted (%s)", words(r))
	}
	return err
}

// fileLog prints a log file that runs share, from an offset in what belongs to the present one. A
// game that begins its log anew (another file, a shorter one, or with another beginning) begins
// at 0. One that was written to and has the size that it had has to stand still for ten seconds before it is
// taken for that: a start script may only have touched it.
func (s Spec) fileLog(from int64) string {
	return logMark + "cd " + sshlink.Quote(s.Dir) + " || exit 5\nf=" + sshlink.Quote(
		s.LogFile) + `; base=0; [ -f "$f" ] || exit 0
if [ -f ` + consoleFolder + `/log.from ]; then
  { read -r ino born size changed; read -r sum; read -r tail; } < ` + consoleFolder + `/log.from
  set -- $(mark "$size")
  if [ "$1 $2" = "$ino $born" ] && [ "$3" -ge "$size" ] && [ "$5 $6" = "$sum" ] && [ "${tail:-$7 $8}" = "$7 $8" ] &&
    { [ "$3" -gt "$size" ] || [ "$size" = 0 ] || [ "${changed:-$4}" = "$4" ] ||
      [ "$(( $(date +%s) - $(stat -c %Y "$f") ))" -lt 10 ]; }; then
    base=$size
  elif [ "$1" != 0 ] && [ "$3" -lt "$size" ]; then # once it has grown again, that would not be seen any more
    rm -f ` + consoleFolder + `/log.from
  fi
fi
tail -c +"$(( base + 1 + ` + strconv.FormatInt(from, 10) + ` ))" "$f"`
}

// lost is the error for a file of the log that could not be asked for.
func (d *Driver) lost(c *sftp.Client, err error) error {
	if err == nil || fault.Ended(err) != "" {
		return err
	}
	if errors.Is(err, fs.ErrPermission) {
		return fault.New(fault.Refused, "read the log of", d.spec.Name, "the account may not read it")
	}
	d.link.Broken(c)
	return d.link.Lost(err)
}

// ReadLog implements control.Speaker.
func (d *Driver) ReadLog(ctx context.Context, run string, p []byte, offset int64) (int, error) {
	if err := ctx.Err(); err != nil {
		return 0, err
	}
	if run == "" || strings.ContainsFunc(run, notOfAName) {
		return 0, nil
	}
	command := d.form.log(run, offset)
	if d.spec.LogFile != "" {
		command = d.spec.fileLog(offset)
	}
	if command != "" {
		return d.readCommand(ctx, command, p)
	}
	name := d.form.logFile(run)
	if name == "" {
		return 0, nil
	}
	return d.readFile(ctx, run, name, p, offset)
}

// mostPrinted is how much of the end of what a run has printed is told, in bytes.
const mostPrinted = 16 << 10

// Printed implements control.Printer: a server that writes a log of its own may say on its output why it does not
// start. A session keeps that, and a unit's journal; what commands of a person's own print elsewhere is not known.
func (d *Driver) Printed(ctx context.Context, run string) (string, error) {
	if d.spec.LogFile == "" || strings.ContainsFunc(run, notOfAName) {
		return "", nil // that is its log
	}
	command := d.form.log(run, 0)
	if name := d.form.logFile(run); name != "" {
		command = "cat " + sshlink.Quote(name)
	}
	if command == "" {
		return "", nil
	}
	r, err := d.run(ctx, "read what was printed by",
		script("{ "+command+"\n} | tail -c "+strconv.Itoa(mostPrinted)), "")
	return string(r.Out), err
}

func notOfAName(r rune) bool {
	return (r < '0' || r > '9') && (r < 'a' || r > 'z') && (r < 'A' || r > 'Z') && r != '-' && r != '.'
}

// readCommand reads what a command prints from an offset on, which it was given.
func (d *Driver) readCommand(ctx context.Context, command string, p []byte) (int, error) {
	r, err := d.run(ctx, "read the log of", script("{ "+command+"\n} | head -c "+strconv.Itoa(len(p))), "")
	if err == nil && r.Code != 0 {
		err = fault.New(fault.Refused, "read the log of", d.spec.Name, "its command for that failed (%s)", words(r))
	}
	return copy(p, r.Out), err
}

// readFile reads a log file, which is kept open while it is the one that is asked for.
func (d *Driver) readFile(ctx context.Context, run, name string, p []byte, offset int64) (int, error) {
	c, err := d.link.Files(ctx)
	if err != nil {
		return 0, err
	}
	got, err := line.Bounded(ctx, func() ([]byte, error) {
		f, err := d.opened(c, run, name)
		if err != nil || f == nil {
			return nil, err
		}
		buf := make([]byte, len(p))
		n, err := f.ReadAt(buf, offset)
		if errors.Is(err, io.EOF) {
			err = nil
		}
		return buf[:n], err
	})
	return copy(p, got), d.lost(c, err)
}

func (d *Driver) opened(c *sftp.Client, run, name string) (*sftp.File, error) {
	d.mu.Lock()
	was := d.open
	d.mu.Unlock()
	if was != nil && was.run == run && was.client == c {
		return was.file, nil
	}
	info, err := c.Lstat(name)
	if err == nil && !info.Mode().IsRegular() {
		return nil, fault.New(fault.Refused, "read the log of", d.spec.Name, "%s is no regular file", name)
	}
	var f *sftp.File
	if err == nil {
		f, err = c.Open(name)
	}
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	d.mu.Lock()
	was = d.open
	d.open = &openLog{run: run, client: c, file: f}
	d.mu.Unlock()
	if was != nil && was.client == c {
		go func() { _ = was.file.Close() }() // it was only read
	}
	return f, nil
}

// keys reads lines "key=value".
func keys(text string) map[string]string {
	out := map[string]string{}
	for line := range strings.Lines(text) {
		if k, v, ok := strings.Cut(strings.TrimSpace(line), "="); ok {
			out[k] = v
		}
	}
	return out
}

// epoch reads seconds since the epoch, with or without an "@" before them.
func epoch(text string) time.Time {
	n, err := strconv.ParseInt(strings.TrimPrefix(text, "@"), 10, 64)
	if err != nil || n <= 0 {
		return time.Time{}
	}
	return time.Unix(n, 0).UTC()
}

// down is a server of which the host's own commands say that it does not run.
func down(run string) control.Sight { return control.Sight{Run: run, Evidence: life.SaidSo} }
