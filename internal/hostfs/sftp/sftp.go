// Package sftp is the files of an account on another machine, over SFTP (draft-ietf-secsh-
// filexfer-02, with OpenSSH's extensions, PROTOCOL in its sources): a hostfs.Driver over a
// folder there.
package sftp

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/pkg/sftp"

	"reshard/internal/core/capability"
	"reshard/internal/core/fault"
	"reshard/internal/core/filename"
	"reshard/internal/hostfs"
	"reshard/internal/line"
	"reshard/internal/sshlink"
)

// Found is what a check has found a host to be able to do that it does not announce; nil:
// nobody has looked, and what SFTP usually gives is taken.
type Found struct {
	// Account owns what is made there, as "uid:gid"; "" is not known.
	Account string
	// Blind: names that differ in capitals only are one file.
	Blind bool
	// Strict: some names cannot be there; see capability.Set.AnyName.
	Strict bool
	// Commands, Hash, Unpack and Databases as in capability.Set.
	Commands, Hash, Unpack, Databases bool
	// ReadOnly: nothing can be written.
	ReadOnly bool
	// NoSync, NoSpace: announced, and does not work.
	NoSync, NoSpace bool
	// TimePrecision is the smallest difference of times; 0: a second.
	TimePrecision time.Duration
	// AtOnce is how many files may be open at the same time; 0: what hosts usually let.
	AtOnce int
	// Doubt is told when something contradicts this; nil: nobody wants to know.
	Doubt func()
}

// Files is a folder of an account.
type Files struct {
	link  *sshlink.Link
	root  string
	found Found

	inside hostfs.Inside

	mu sync.Mutex // held for moments only
	// unsynced are folders in which something was made since SyncAll.
	unsynced map[string]bool
}

// usuallyAtOnce is how many files hosts usually let be open at the same time.
const usuallyAtOnce = 64

// Open gives a folder of an account; root is absolute, in the form that Root gave.
func Open(link *sshlink.Link, root string, found *Found) *Files {
	f := &Files{link: link, root: root, unsynced: map[string]bool{}}
	if found != nil {
		f.found = *found
	}
	if f.found.TimePrecision == 0 {
		f.found.TimePrecision = time.Second
	}
	if f.found.AtOnce == 0 {
		f.found.AtOnce = usuallyAtOnce
	}
	return f
}

// Root resolves a folder's name on a host, links followed. NotFound: it is not there;
// Invalid: it is no folder, or not named whole.
func Root(ctx context.Context, link *sshlink.Link, name string) (root string, err error) {
	if !path.IsAbs(name) && name != "." {
		return "", fault.New(fault.Invalid, "look at", name, "it is no absolute path, such as /srv/game")
	}
	root, err = ask(ctx, Open(link, "/", nil), true, func(c *sftp.Client) (string, error) {
		real, err := c.RealPath(filename.Decode(name))
		if err != nil {
			return "", err
		}
		info, err := c.Stat(real)
		if err == nil && !info.IsDir() {
			err = fault.New(fault.Invalid, "look at", name, "it is no folder")
		}
		return real, err
	})
	return filename.Encode(root), err
}

// at gives a name's path on the host.
func (f *Files) at(name string) string {
	return path.Join(filename.Decode(f.root), filename.Decode(name))
}

// Base is the last name of the folder's path.
func (f *Files) Base() string { return path.Base(f.root) }

// Close gives nothing back: the line belongs to the account.
func (f *Files) Close() error { return nil }

// errFailed is what the host says when it says no more than that.
var errFailed = errors.New("the host says no more than that it failed")

// class gives an error of the protocol its class, or errFailed when it has none: whoever asked
// looks then why.
func (f *Files) class(err error) error {
	var status *sftp.StatusError
	switch {
	case err == nil:
		return nil
	case fault.Ended(err) != "":
		return err
	case errors.Is(err, fs.ErrNotExist):
		return fs.ErrNotExist
	case errors.Is(err, fs.ErrPermission):
		return fs.ErrPermission
	case errors.Is(err, sftp.ErrSSHFxConnectionLost), errors.Is(err, sftp.ErrSSHFxNoConnection),
		errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, net.ErrClosed),
		errors.Is(err, io.ErrClosedPipe):
		return f.link.Lost(err)
	case errors.As(err, &status):
		switch status.FxCode() {
		case sftp.ErrSSHFxBadMessage:
			return &fault.Error{Code: fault.Invalid, What: "the host takes no such name"}
		case sftp.ErrSSHFxOpUnsupported:
			return &fault.Error{Code: fault.Unsupported, What: "the host has no way to do this"}
		}
		return errFailed
	}
	return f.link.Lost(err) // the answer was none that the protocol has
}

// ask asks something of the host within ctx. What only looks is asked once more on a new
// connection when the line breaks: hosts end connections that nobody uses.
func ask[T any](ctx context.Context, f *Files, looks bool, do func(*sftp.Client) (T, error)) (T, error) {
	for again := false; ; again = true {
		c, err := f.link.Files(ctx)
		if err != nil {
			var none T
			return none, err
		}
		got, err := line.Bounded(ctx, func() (T, error) { return do(c) })
		err = f.class(err)
		if ctx.Err() != nil {
			go f.stillAnswers(c)
		}
		if fault.CodeOf(err) != fault.Unreachable {
			return got, err
		}
		f.link.Broken(c)
		if !looks || again || ctx.Err() != nil {
			return got, err
		}
	}
}

// stuckAfter is how long files may give no answer at all before their line is given up.
const stuckAfter = 30 * time.Second

// stillAnswers gives a client up that does not answer any more although its connection lives: a
// host's file server may wait for something of its own, such as a disk or a pipe.
func (f *Files) stillAnswers(c *sftp.Client) {
	answered := make(chan struct{})
	go func() {
		defer close(answered)
		_, _ = c.Lstat("/") // any answer is one
	}()
	select {
	case <-answered:
	case <-time.After(stuckAfter):
		f.link.Broken(c)
	}
}

// nothing is for what gives no more than an error.
type nothing struct{}

// tell does something on the host within ctx.
func (f *Files) tell(ctx context.Context, looks bool, do func(*sftp.Client) error) error {
	_, err := ask(ctx, f, looks, func(c *sftp.Client) (nothing, error) { return nothing{}, do(c) })
	return err
}

// Capabilities says what the host announces and what a check has found.
func (f *Files) Capabilities(ctx context.Context) (capability.Set, error) {
	can := capability.Set{
		ReadOnly: f.found.ReadOnly, Exclusive: true, RenameFolders: true, Modes: true, ExactCase: !f.found.Blind,
		AnyName:  !f.found.Strict,
		Account:  f.found.Account,
		Commands: f.found.Commands, Hash: f.found.Hash, Unpack: f.found.Unpack,
		Databases: f.found.Databases,
		Owners:    strings.HasPrefix(f.found.Account, "0:"), TimePrecision: f.found.TimePrecision,
		Pace: 250 * time.Millisecond, AtOnce: f.found.AtOnce,
	}
	c, err := f.link.Files(ctx)
	if err != nil {
		return can, err
	}
	_, can.AtomicReplace = c.HasExtension("posix-rename@openssh.com")
	_, can.Sync = c.HasExtension("fsync@openssh.com")
	_, can.FreeSpace = c.HasExtension("statvfs@openssh.com")
	_, copies := c.HasExtension(copyData)
	can.Copy = copies || f.found.Commands
	can.Sync, can.FreeSpace = can.Sync && !f.found.NoSync, can.FreeSpace && !f.found.NoSpace
	return can, nil
}

func infoOf(i fs.FileInfo) hostfs.Info {
	out := hostfs.Info{Named: filename.Encode(i.Name()), Bytes: i.Size(), Modes: i.Mode(), Modified: i.ModTime()}
	if st, ok := i.Sys().(*sftp.FileStat); ok {
		out.Account = fmt.Sprintf("%d:%d", st.UID, st.GID)
	}
	return out
}

// within is Refused unless a folder is the root or below it once all links are followed.
// A folder that is not there is left to whoever asks for something in it.
func (f *Files) within(c *sftp.Client, dir string) error {
	if f.inside.Known(dir) {
		return nil
	}
	real, err := c.RealPath(f.at(dir))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		if f.class(err) == errFailed { //nolint:errorlint // it is the value itself
			return nil // it is not there, or no folder: who asks for something in it is told
		}
		return err
	}
	return f.inside.Saw(dir, real, filename.Decode(f.root))
}

// Stat implements hostfs.Reader.
func (f *Files) Stat(ctx context.Context, name string) (hostfs.Info, error) {
	info, err := ask(ctx, f, true, func(c *sftp.Client) (hostfs.Info, error) { return f.lstat(c, name) })
	return info, f.orInvalid(err)
}

func (f *Files) lstat(c *sftp.Client, name string) (hostfs.Info, error) {
	if err := f.within(c, path.Dir(name)); err != nil {
		return hostfs.Info{}, err
	}
	i, err := c.Lstat(f.at(name))
	if err != nil {
		return hostfs.Info{}, err
	}
	info := infoOf(i)
	if name == "." {
		info.Named = "."
	}
	return info, nil
}

// orInvalid is for a failure to look: a name that the host does not take.
func (f *Files) orInvalid(err error) error {
	if err == errFailed { //nolint:errorlint // it is the value itself
		return &fault.Error{Code: fault.Invalid, What: "the host does not look at such a name"}
	}
	return err
}

// entry is a name in a listing.
type entry struct{ info hostfs.Info }

func (e entry) Name() string               { return e.info.Named }
func (e entry) IsDir() bool                { return e.info.IsDir() }
func (e entry) Type() fs.FileMode          { return e.info.Modes.Type() }
func (e entry) Info() (fs.FileInfo, error) { return e.info, nil }
func (e entry) String() string             { return fs.FormatDirEntry(e) }

// List implements hostfs.Reader.
func (f *Files) List(ctx context.Context, name string) ([]fs.DirEntry, error) {
	out, err := ask(ctx, f, true, func(c *sftp.Client) ([]fs.DirEntry, error) {
		if err := f.within(c, name); err != nil {
			return nil, err
		}
		list, err := c.ReadDirContext(ctx, f.at(name))
		if err != nil {
			return nil, err
		}
		out := make([]fs.DirEntry, len(list))
		for i, e := range list {
			out[i] = entry{infoOf(e)}
		}
		return out, nil
	})
	if err == errFailed { //nolint:errorlint // it is the value itself
		err = f.whyNot(ctx, name)
	}
	slices.SortFunc(out, func(a, b fs.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
	return out, err
}

// whyNot looks why a folder could not be listed.
func (f *Files) whyNot(ctx context.Context, name string) error {
	info, err := f.Stat(ctx, name)
	if err != nil {
		return err
	}
	if !info.IsDir() {
		return &fault.Error{Code: fault.Invalid, What: "it is no folder"}
	}
	return &fault.Error{Code: fault.Refused, What: errFailed.Error()}
}

// Mkdir implements hostfs.Writer.
func (f *Files) Mkdir(ctx context.Context, name string) error {
	err := f.tell(ctx, false, func(c *sftp.Client) error {
		if err := f.within(c, path.Dir(name)); err != nil {
			return err
		}
		return c.Mkdir(f.at(name))
	})
	if err == errFailed { //nolint:errorlint // it is the value itself
		err = f.whyNotMade(ctx, name)
	}
	if err == nil {
		f.made(name)
		f.inside.Note(name) // it is no link
	}
	return err
}

// whyNotMade looks why something could not be made: the protocol has no word for most.
func (f *Files) whyNotMade(ctx context.Context, name string) error {
	_, err := f.Stat(ctx, name)
	switch {
	case err == nil:
		return fs.ErrExist
	case !errors.Is(err, fs.ErrNotExist):
		return err
	}
	if _, err := f.Stat(ctx, path.Dir(name)); err != nil {
		return err
	}
	return f.noRoomOr(ctx, path.Dir(name),
		&fault.Error{Code: fault.Refused, What: errFailed.Error() + "; the disk, or an allowance, may be full"})
}

// noRoomOr is NoSpace when the disk is full, else err.
func (f *Files) noRoomOr(ctx context.Context, dir string, err error) error {
	free, _, serr := f.Space(ctx, dir)
	switch {
	case fault.Passing(serr):
		return serr
	case serr == nil && free < 1<<20:
		return &fault.Error{Code: fault.NoSpace, What: "the disk is full"}
	}
	return err
}

// made remembers that something was made in a folder, until it is synced.
func (f *Files) made(name string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.unsynced[path.Dir(name)] = true
}

// Rename implements hostfs.Writer. Without replace it is the protocol's own rename, which
// refuses a name that is taken: OpenSSH makes a second name for a file and removes the
// first, and looks before it renames a folder.
func (f *Files) Rename(ctx context.Context, from, to string, replace bool) error {
	err := f.tell(ctx, false, func(c *sftp.Client) error {
		if err := f.within(c, path.Dir(from)); err != nil {
			return err
		}
		if err := f.within(c, path.Dir(to)); err != nil {
			return err
		}
		if !replace {
			return c.Rename(f.at(from), f.at(to))
		}
		if _, ok := c.HasExtension("posix-rename@openssh.com"); !ok {
			return fault.New(fault.Unsupported, "", "", "the host does not replace a file by a rename")
		}
		return c.PosixRename(f.at(from), f.at(to))
	})
	if err == errFailed { //nolint:errorlint // it is the value itself
		err = f.whyNotRenamed(ctx, from, to, replace)
	}
	f.inside.Forget(from)
	if err == nil {
		f.inside.Forget(to)
	}
	return err
}

func (f *Files) whyNotRenamed(ctx context.Context, from, to string, replace bool) error {
	if _, err := f.Stat(ctx, from); err != nil {
		return err
	}
	info, err := f.Stat(ctx, to)
	switch {
	case err == nil && (!replace || info.IsDir()):
		return fs.ErrExist
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return err
	}
	if strings.HasPrefix(to+"/", from+"/") {
		return &fault.Error{Code: fault.Invalid, What: "a folder cannot be moved into itself"}
	}
	if _, err := f.Stat(ctx, path.Dir(to)); err != nil {
		return err
	}
	_, here, errHere := f.Space(ctx, path.Dir(from))
	_, there, errThere := f.Space(ctx, path.Dir(to))
	if errHere == nil && errThere == nil && here != there {
		return &fault.Error{Code: fault.CrossDevice, What: "they are on different file systems"}
	}
	return f.noRoomOr(ctx, path.Dir(to), &fault.Error{Code: fault.Refused, What: errFailed.Error() +
		"; another program may have a file in it open"})
}

// Remove implements hostfs.Writer.
func (f *Files) Remove(ctx context.Context, name string) error {
	err := f.tell(ctx, false, func(c *sftp.Client) error {
		info, err := f.lstat(c, name)
		if err != nil {
			return err
		}
		if info.IsDir() {
			return c.RemoveDirectory(f.at(name))
		}
		return c.Remove(f.at(name))
	})
	if err != errFailed { //nolint:errorlint // it is the value itself
		return err
	}
	entries, lerr := f.List(ctx, name)
	switch {
	case fault.CodeOf(lerr) == fault.Invalid:
		return &fault.Error{Code: fault.Refused, What: errFailed.Error()}
	case lerr != nil:
		return lerr
	case len(entries) > 0:
		return &fault.Error{Code: fault.NotEmpty, What: "it is not empty"}
	}
	return &fault.Error{Code: fault.Refused, What: errFailed.Error()}
}

// Set implements hostfs.Writer. The owner goes first: giving a file away takes set-id bits
// off it.
func (f *Files) Set(ctx context.Context, name string, a hostfs.Attributes) error {
	err := f.tell(ctx, false, func(c *sftp.Client) error {
		if err := f.within(c, path.Dir(name)); err != nil {
			return err
		}
		if a.Account != "" {
			uid, gid, err := numbers(a.Account)
			if err != nil {
				return err
			}
			if err := c.Chown(f.at(name), uid, gid); err != nil {
				return err
			}
		}
		// The two do not depend on each other: one way there and back.
		var mode, times error
		var wg sync.WaitGroup
		if a.Mode != 0 {
			wg.Go(func() { mode = c.Chmod(f.at(name), a.Mode.Perm()) })
		}
		if !a.Modified.IsZero() {
			times = c.Chtimes(f.at(name), a.Modified, a.Modified)
		}
		wg.Wait()
		return errors.Join(mode, times)
	})
	if err == errFailed { //nolint:errorlint // it is the value itself
		return &fault.Error{Code: fault.Refused, What: errFailed.Error()}
	}
	return err
}

func numbers(account string) (uid, gid int, err error) {
	u, g, ok := strings.Cut(account, ":")
	uid, uerr := strconv.Atoi(u)
	gid, gerr := strconv.Atoi(g)
	if !ok || uerr != nil || gerr != nil {
		return 0, 0, fault.New(fault.Invalid, "", "", "%q is no account of this host", account)
	}
	return uid, gid, nil
}

// Move implements hostfs.Mover: the folders are opened while the name is given.
func (f *Files) Move(ctx context.Context, from, to string) error {
	dirs := slices.Compact([]string{path.Dir(from), path.Dir(to)})
	opened := make([]*synced, len(dirs))
	var all sync.WaitGroup
	for i, dir := range dirs {
		all.Go(func() { opened[i] = f.toSync(ctx, dir) })
	}
	err := f.Rename(ctx, from, to, false)
	all.Wait()
	if err != nil {
		for _, s := range opened {
			s.close()
		}
		return err
	}
	return eachAtOnce(opened, func(s *synced) error {
		err := s.sync(ctx)
		if fault.CodeOf(err) == fault.Unreachable { // what was opened has ended with its connection
			return f.Sync(ctx, s.name)
		}
		return err
	})
}

// MayWrite implements hostfs.Judge by the permission bits. In which other groups an account is,
// and what access lists say, is not seen there: what they could allow is not known.
func (f *Files) MayWrite(account string, i hostfs.Info) (may, known bool) {
	uid, gid, err := numbers(account)
	owner, group, oerr := numbers(i.Account)
	if err != nil || oerr != nil {
		return false, false
	}
	need := fs.FileMode(0o2)
	if i.IsDir() {
		need = 0o3
	}
	switch all := i.Modes&need == need; {
	case uid == 0:
		return true, true
	case uid == owner:
		return i.Modes>>6&need == need, true
	case gid == group:
		return i.Modes>>3&need == need, true
	default:
		return all, all || i.Modes>>3&need != need
	}
}

// Sync implements hostfs.Writer.
func (f *Files) Sync(ctx context.Context, names ...string) error {
	return eachAtOnce(names, func(name string) error {
		err := f.toSync(ctx, name).sync(ctx)
		if fault.CodeOf(err) == fault.Unreachable && ctx.Err() == nil {
			err = f.toSync(ctx, name).sync(ctx)
		}
		return err
	})
}

// synced is a file or a folder that is opened to be written out.
type synced struct {
	files *Files
	name  string
	h     *sftp.File // nil: the host cannot do this, or err
	err   error
}

func (f *Files) toSync(ctx context.Context, name string) *synced {
	s := &synced{files: f, name: name}
	s.h, s.err = ask(ctx, f, true, func(c *sftp.Client) (*sftp.File, error) {
		if _, ok := c.HasExtension("fsync@openssh.com"); !ok || f.found.NoSync {
			return nil, nil
		}
		if err := f.within(c, path.Dir(name)); err != nil {
			return nil, err
		}
		return c.Open(f.at(name))
	})
	return s
}

func (s *synced) sync(ctx context.Context) error {
	defer s.close()
	err := s.err
	if err == nil && s.h != nil {
		err = s.files.tell(ctx, false, func(*sftp.Client) error { return s.h.Sync() })
	}
	if err == errFailed { //nolint:errorlint // it is the value itself
		err = &fault.Error{Code: fault.Refused, What: "the host does not write it out: " + errFailed.Error()}
	}
	return err
}

// close gives the handle back without waiting for the host: nothing was written through it.
func (s *synced) close() {
	if s.h != nil {
		go func() { _ = s.h.Close() }()
	}
}

// mostAtOnce is how much of a kind is asked at once.
const mostAtOnce = 32

// eachAtOnce does something with each, many at a time.
func eachAtOnce[T any](each []T, do func(one T) error) error {
	var all sync.WaitGroup
	errs := make([]error, len(each))
	room := make(chan struct{}, mostAtOnce)
	for i, one := range each {
		all.Go(func() {
			room <- struct{}{}
			defer func() { <-room }()
			errs[i] = do(one)
		})
	}
	all.Wait()
	return errors.Join(errs...)
}

// SyncAll implements hostfs.SyncAller: files are synced when they are closed, and what is left
// are the folders in which something was made.
func (f *Files) SyncAll(ctx context.Context) error {
	if f.found.Unpack { // what was unpacked was not synced
		if r, err := f.link.Short(ctx, f.inRoot("exec sync -f ."), ""); err != nil || r.Code == 0 {
			return err
		}
	}
	f.mu.Lock()
	var dirs []string
	for dir := range f.unsynced {
		dirs = append(dirs, dir)
	}
	clear(f.unsynced)
	f.mu.Unlock()
	return eachAtOnce(dirs, func(dir string) error {
		if err := f.Sync(ctx, dir); !errors.Is(err, fs.ErrNotExist) { // it may have gone since
			return err
		}
		return nil
	})
}

// Space implements hostfs.Spacer (statvfs@openssh.com). The nearest folder that is there
// stands for a name that is not there yet.
func (f *Files) Space(ctx context.Context, name string) (free int64, filesystem string, err error) {
	st, err := ask(ctx, f, true, func(c *sftp.Client) (*sftp.StatVFS, error) {
		if _, ok := c.HasExtension("statvfs@openssh.com"); !ok || f.found.NoSpace {
			return nil, fault.New(fault.Unsupported, "", "", "the host does not tell how much is free")
		}
		st, err := c.StatVFS(f.at(name))
		for dir := name; errors.Is(err, fs.ErrNotExist) && dir != "."; {
			dir = path.Dir(dir)
			st, err = c.StatVFS(f.at(dir))
		}
		return st, err
	})
	if err != nil {
		return 0, "", f.orInvalid(err)
	}
	return int64(min(st.Bavail*st.Frsize, 1<<62)), strconv.FormatUint(st.Fsid, 16), nil
}
