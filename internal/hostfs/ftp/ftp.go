// Package ftp is the files of an account on another machine, over FTP (RFC 959, with RFC 3659 and
// what hosts do beside them): a hostfs.Driver over a folder there.
package ftp

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"path"
	"strings"
	"sync"
	"time"

	"reshard/internal/core/capability"
	"reshard/internal/core/fault"
	"reshard/internal/core/filename"
	"reshard/internal/ftplink"
	"reshard/internal/hostfs"
)

// Found is what a check has found a host to be able to do; nil: nobody has looked, and as little
// as possible is taken.
type Found struct {
	// AtomicReplace: a file takes another's place by a rename. RenameFolders and NoRename as in
	// capability.Set.
	AtomicReplace, RenameFolders, NoRename bool
	// Blind: names that differ in capitals only are one file. Strict: some names cannot be there;
	// see capability.Set.AnyName.
	Blind, Strict bool
	// ReadOnly: nothing can be written.
	ReadOnly bool
	// TimePrecision is the smallest difference of times in listings; 0: they tell nothing.
	TimePrecision time.Duration
	// AtOnce is how many connections there may be; 0: what hosts usually let.
	AtOnce int
}

// Files is a folder of an account.
type Files struct {
	link  *ftplink.Link
	root  string
	found Found

	inside hostfs.Inside

	mu sync.Mutex // held for moments only
	// own are folders that were made here: nothing in them leads elsewhere.
	own map[string]bool
}

// Open gives a folder of an account; root is absolute, in the form that Root gave.
func Open(link *ftplink.Link, root string, found *Found) *Files {
	f := &Files{link: link, root: root, own: map[string]bool{}}
	if f.found = (Found{RenameFolders: true}); found != nil {
		f.found = *found
	}
	if f.found.TimePrecision == 0 {
		f.found.TimePrecision = capability.NoTimes
	}
	return f
}

// Root finds a folder's name on a host, as the host gives it. NotFound: it is not there, or is no
// folder; Invalid: it is not named whole.
func Root(ctx context.Context, link *ftplink.Link, name string) (root string, err error) {
	if !path.IsAbs(name) && name != "." {
		return "", fault.New(fault.Invalid, "look at", name, "it is no absolute path, such as /srv/game")
	}
	root, err = ftplink.Do(ctx, link, true, func(c *ftplink.Conn) (string, error) {
		if name != "." {
			if err := c.ChangeDir(filename.Decode(name)); err != nil {
				return "", err
			}
		} else if err := c.ChangeDir(c.Home); err != nil {
			return "", err
		}
		return c.CurrentDir()
	})
	if errors.As(err, new(*ftplink.Denied)) {
		return "", fault.New(fault.NotFound, "look at", name, "the account has no such folder, or may not enter it")
	}
	if err == nil && !path.IsAbs(root) {
		return "", fault.New(fault.Unsupported, "look at", name, "the host names its folders in a way of its own: %q",
			root)
	}
	return filename.Encode(path.Clean(root)), err
}

// at gives a name's path on the host.
func (f *Files) at(name string) string {
	return path.Join(filename.Decode(f.root), filename.Decode(name))
}

// Base is the last name of the folder's path.
func (f *Files) Base() string { return path.Base(f.root) }

// Close gives nothing back: the connections belong to the account.
func (f *Files) Close() error { return nil }

// Capabilities implements hostfs.Driver: what a check has found.
func (f *Files) Capabilities(ctx context.Context) (capability.Set, error) {
	at := f.found.AtOnce
	if at == 0 {
		at = f.link.Most()
	}
	return capability.Set{
		ReadOnly: f.found.ReadOnly, AtomicReplace: f.found.AtomicReplace, RenameFolders: f.found.RenameFolders,
		NoRename:  f.found.NoRename,
		ExactCase: !f.found.Blind, AnyName: !f.found.Strict,
		TimePrecision: f.found.TimePrecision, Pace: 500 * time.Millisecond, AtOnce: at,
		Costly: true,
	}, ctx.Err()
}

// denied is what the host says when it says no more than that it does not do something; nil when err
// is something else.
func denied(err error) *ftplink.Denied {
	var d *ftplink.Denied
	errors.As(err, &d)
	return d
}

// refused is the error for what the host does not do although nothing is seen that could be in
// the way.
func refused(d *ftplink.Denied) error { return &fault.Error{Code: fault.Refused, What: d.Error()} }

// tell does something on the host. A name that cannot be sent is Invalid.
func (f *Files) tell(ctx context.Context, again bool, do func(*ftplink.Conn) error) error {
	return ftplink.Tell(ctx, f.link, again, do)
}

// within is Refused unless a folder is the root or below it, as far as the host tells where one
// arrives that enters it. A folder that is not there is left to whoever asks for something in it.
func (f *Files) within(ctx context.Context, dir string) error {
	if f.inside.Known(dir) {
		return nil
	}
	real, err := ftplink.Do(ctx, f.link, true, func(c *ftplink.Conn) (string, error) {
		if err := c.ChangeDir(f.at(dir)); err != nil {
			return "", err
		}
		return c.CurrentDir()
	})
	if denied(err) != nil {
		return nil
	}
	if err != nil {
		return err
	}
	return f.inside.Saw(dir, real, filename.Decode(f.root))
}

// forget takes back what was seen of a folder and those below, once it has moved.
func (f *Files) forget(name string) {
	f.inside.Forget(name)
	f.mu.Lock()
	defer f.mu.Unlock()
	for dir := range f.own {
		if dir == name || strings.HasPrefix(dir, name+"/") {
			delete(f.own, dir)
		}
	}
}

// infos lists a folder. NotFound: it is not there; Invalid: it is no folder.
func (f *Files) infos(ctx context.Context, dir string) ([]hostfs.Info, error) {
	out, err := ftplink.Do(ctx, f.link, true, func(c *ftplink.Conn) ([]hostfs.Info, error) {
		known := f.inside.Known(dir)
		entries, lines, err := c.Listing(f.at(dir))
		if err != nil {
			return nil, err
		}
		if !known {
			real, err := c.CurrentDir()
			if err != nil {
				return nil, err
			}
			if err := f.inside.Saw(dir, real, filename.Decode(f.root)); err != nil {
				return nil, err
			}
		}
		return infosOf(dir, entries, lines)
	})
	d := denied(err)
	if d == nil {
		return out, err
	}
	if dir == "." {
		return nil, fs.ErrNotExist
	}
	info, err := f.Stat(ctx, dir)
	switch {
	case err != nil:
		return nil, err
	case !info.IsDir() && info.Modes&fs.ModeSymlink == 0:
		return nil, &fault.Error{Code: fault.Invalid, What: "it is no folder"}
	}
	return nil, refused(d)
}

// List implements hostfs.Reader.
func (f *Files) List(ctx context.Context, name string) ([]fs.DirEntry, error) {
	infos, err := f.infos(ctx, name)
	if err != nil {
		return nil, err
	}
	out := make([]fs.DirEntry, len(infos))
	for i, info := range infos {
		out[i] = fs.FileInfoToDirEntry(info)
	}
	return out, nil
}

// Stat implements hostfs.Reader: a name is looked for in the listing of its folder, which is the one
// question whose answer tells that it is not there.
func (f *Files) Stat(ctx context.Context, name string) (hostfs.Info, error) {
	if name == "." {
		err := f.tell(ctx, true, func(c *ftplink.Conn) error { return c.ChangeDir(f.at(".")) })
		if denied(err) != nil {
			err = fs.ErrNotExist
		}
		return hostfs.Info{Named: ".", Modes: fs.ModeDir | 0o755}, err
	}
	infos, err := f.infos(ctx, path.Dir(name))
	if fault.CodeOf(err) == fault.Invalid {
		err = fs.ErrNotExist // a file holds nothing
	}
	if err != nil {
		return hostfs.Info{}, err
	}
	for _, i := range infos {
		if i.Named == path.Base(name) {
			return i, nil
		}
	}
	return hostfs.Info{}, fs.ErrNotExist
}

// Changed gives when a file was changed, by the host's clock and to the second, where listings do not
// tell. Unsupported: the host does not say.
func (f *Files) Changed(ctx context.Context, name string) (time.Time, error) {
	return ftplink.Do(ctx, f.link, true, func(c *ftplink.Conn) (time.Time, error) {
		if !c.IsGetTimeSupported() {
			return time.Time{}, fault.New(fault.Unsupported, "", "", "the host does not tell when a file was changed")
		}
		return c.GetTime(f.at(name))
	})
}

// why looks why the host did not do something with a name that should be there.
func (f *Files) why(ctx context.Context, name string, d *ftplink.Denied) error {
	if _, err := f.Stat(ctx, name); err != nil {
		return err
	}
	return refused(d)
}

// Open implements hostfs.Reader.
func (f *Files) Open(ctx context.Context, name string) (hostfs.Content, error) {
	info, err := f.Stat(ctx, name)
	if err != nil {
		return nil, err
	}
	if info.Modes&fs.ModeSymlink != 0 {
		return f.openBehind(ctx, name, info)
	}
	if !info.Modes.IsRegular() {
		return nil, &fault.Error{Code: fault.Invalid, What: "it is no regular file"}
	}
	return f.OpenSeen(ctx, name, info)
}

// openBehind opens what a link leads to, where the host tells, and when that is a file in the root.
func (f *Files) openBehind(ctx context.Context, name string, info hostfs.Info) (hostfs.Content, error) {
	target, err := ftplink.Do(ctx, f.link, true, func(c *ftplink.Conn) (string, error) {
		entries, _, err := c.Listing(f.at(path.Dir(name)))
		for _, e := range entries {
			if filename.Encode(e.Name) == path.Base(name) {
				return filename.Encode(e.Target), err
			}
		}
		return "", err
	})
	if err != nil {
		return nil, err
	}
	if path.IsAbs(target) {
		target = strings.TrimPrefix(target, strings.TrimSuffix(f.root, "/")+"/")
	} else {
		target = path.Join(path.Dir(name), target)
	}
	if target == "" || !fs.ValidPath(target) {
		return nil, fault.New(fault.Refused, "", "",
			"it is a link, and leads out of the server's folder, or nobody knows where")
	}
	behind, err := f.Stat(ctx, target)
	if err != nil {
		return nil, err
	}
	if !behind.Modes.IsRegular() {
		return nil, &fault.Error{Code: fault.Invalid, What: "it is a link, and to no regular file"}
	}
	behind.Named = info.Named
	return f.OpenSeen(ctx, target, behind)
}

// OpenSeen implements hostfs.Distant.
func (f *Files) OpenSeen(ctx context.Context, name string, seen hostfs.Info) (hostfs.Content, error) {
	if err := f.within(ctx, path.Dir(name)); err != nil {
		return nil, err
	}
	d, err := f.link.Download(ctx, f.at(name), seen.Bytes)
	if no := denied(err); no != nil {
		return nil, f.why(ctx, name, no)
	}
	if err != nil {
		return nil, err
	}
	return &content{Download: d, info: seen}, nil
}

// Ahead implements hostfs.Distant: each listing takes a connection.
func (f *Files) Ahead() int { return f.link.Most() / 2 }

// content is an open file, read as far as it reached when it was opened.
type content struct {
	*ftplink.Download
	info hostfs.Info
	at   int64
}

func (c *content) Stat() (hostfs.Info, error) { return c.info, nil }

func (c *content) Read(p []byte) (int, error) {
	n, err := c.ReadAt(p, c.at)
	c.at += int64(n)
	if n > 0 && errors.Is(err, io.EOF) {
		err = nil
	}
	return n, err
}

// Create implements hostfs.Writer. In a folder that others have made it is looked first what the
// name is: a link would be followed.
func (f *Files) Create(ctx context.Context, name string) (io.WriteCloser, error) {
	return f.upload(ctx, name, 0, false)
}

// CreateHasty implements hostfs.Hasty: a question less for each file.
func (f *Files) CreateHasty(ctx context.Context, name string) (io.WriteCloser, error) {
	return f.upload(ctx, name, 0, true)
}

// Append implements hostfs.Appender.
func (f *Files) Append(ctx context.Context, name string, at int64) (io.WriteCloser, error) {
	return f.upload(ctx, name, at, false)
}

func (f *Files) upload(ctx context.Context, name string, at int64, hasty bool) (io.WriteCloser, error) {
	f.mu.Lock()
	own := f.own[path.Dir(name)]
	f.mu.Unlock()
	if !own {
		info, err := f.Stat(ctx, name)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			if err := f.there(ctx, path.Dir(name)); err != nil {
				return nil, err
			}
		case err != nil:
			return nil, err
		case info.IsDir():
			return nil, &fault.Error{Code: fault.Refused, What: "it is a folder"}
		case !info.Modes.IsRegular():
			return nil, &fault.Error{Code: fault.Refused, What: "it is no regular file, and is not written to"}
		}
	}
	if err := nameable(name); err != nil {
		return nil, err
	}
	up := f.link.Upload(ctx, f.at(name), at)
	up.Hasty = hasty
	return &writer{Upload: up, files: f, ctx: ctx, name: name}, nil
}

// longest is how long a name may be, in bytes, on the systems that hosts run.
const longest = 255

// nameable is Invalid for a name that cannot be sent or kept.
func nameable(name string) error {
	raw := filename.Decode(name)
	if strings.ContainsAny(raw, "\r\n") || len(path.Base(raw)) > longest {
		return &fault.Error{Code: fault.Invalid, What: "the host takes no such name"}
	}
	return nil
}

// there is NotFound for a folder that is not.
func (f *Files) there(ctx context.Context, dir string) error {
	_, err := f.Stat(ctx, dir)
	return err
}

// writer tells why the host did not take a file.
type writer struct {
	*ftplink.Upload
	files *Files
	ctx   context.Context
	name  string
}

func (w *writer) Write(p []byte) (int, error) {
	n, err := w.Upload.Write(p)
	return n, w.why(err)
}

func (w *writer) Close() error { return w.why(w.Upload.Close()) }

func (w *writer) why(err error) error {
	d := denied(err)
	if d == nil {
		return err
	}
	if err := w.files.there(w.ctx, path.Dir(w.name)); err != nil {
		return err
	}
	return fault.New(fault.Refused, "", "", "%s; the disk, or an allowance, may be full", d)
}

// Mkdir implements hostfs.Writer.
func (f *Files) Mkdir(ctx context.Context, name string) error {
	if err := nameable(name); err != nil {
		return err
	}
	if err := f.within(ctx, path.Dir(name)); err != nil {
		return err
	}
	err := f.tell(ctx, false, func(c *ftplink.Conn) error { return c.MakeDir(f.at(name)) })
	if d := denied(err); d != nil {
		_, err := f.Stat(ctx, name)
		switch {
		case err == nil:
			return fs.ErrExist
		case !errors.Is(err, fs.ErrNotExist):
			return err
		}
		if err := f.there(ctx, path.Dir(name)); err != nil {
			return err
		}
		return refused(d)
	}
	if err == nil {
		f.inside.Note(name) // it is no link
		f.mu.Lock()
		defer f.mu.Unlock()
		f.own[name] = true
	}
	return err
}

// Rename implements hostfs.Writer. Whether a name is taken is asked first, by whether it could be
// renamed: hosts replace what is there.
func (f *Files) Rename(ctx context.Context, from, to string, replace bool) error {
	for _, name := range []string{from, to} {
		if err := nameable(name); err != nil {
			return err
		}
		if err := f.within(ctx, path.Dir(name)); err != nil {
			return err
		}
	}
	if strings.HasPrefix(to+"/", from+"/") {
		return &fault.Error{Code: fault.Invalid, What: "a folder cannot be moved into itself"}
	}
	if replace && !f.found.AtomicReplace {
		return fault.New(fault.Unsupported, "", "", "the host does not replace a file by a rename")
	}
	taken, err := ftplink.Do(ctx, f.link, false, func(c *ftplink.Conn) (bool, error) {
		if !replace {
			if taken, err := c.Taken(f.at(to)); taken || err != nil {
				return taken, err
			}
		}
		return false, c.Rename(f.at(from), f.at(to))
	})
	if taken {
		return fs.ErrExist
	}
	if d := denied(err); d != nil {
		err = f.whyNotRenamed(ctx, from, to, replace, d)
	}
	f.forget(from)
	if err == nil {
		f.forget(to)
	}
	return err
}

func (f *Files) whyNotRenamed(ctx context.Context, from, to string, replace bool, d *ftplink.Denied) error {
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
	if err := f.there(ctx, path.Dir(to)); err != nil {
		return err
	}
	return fault.New(fault.Refused, "", "", "%s; another program may have a file in it open", d)
}

// Remove implements hostfs.Writer.
func (f *Files) Remove(ctx context.Context, name string) error {
	if err := nameable(name); err != nil {
		return err
	}
	if err := f.within(ctx, path.Dir(name)); err != nil {
		return err
	}
	err := f.tell(ctx, false, func(c *ftplink.Conn) error { return c.Delete(f.at(name)) })
	if denied(err) == nil {
		return err
	}
	err = f.tell(ctx, false, func(c *ftplink.Conn) error { return c.RemoveDir(f.at(name)) })
	d := denied(err)
	if d == nil {
		if err == nil {
			f.forget(name)
		}
		return err
	}
	info, err := f.Stat(ctx, name)
	if err != nil || !info.IsDir() {
		return errors.Join(err, refusedIf(err == nil, d))
	}
	infos, err := f.infos(ctx, name)
	switch {
	case err != nil:
		return err
	case len(infos) > 0:
		return &fault.Error{Code: fault.NotEmpty, What: "it is not empty"}
	}
	return refused(d)
}

func refusedIf(is bool, d *ftplink.Denied) error {
	if is {
		return refused(d)
	}
	return nil
}

// Set implements hostfs.Writer. What the host has no way to set is left as it is: its capabilities
// tell.
func (f *Files) Set(ctx context.Context, name string, a hostfs.Attributes) error {
	if a.Account != "" {
		return fault.New(fault.Unsupported, "", "", "the host does not let files be given to another account")
	}
	if a.Modified.IsZero() || f.found.TimePrecision == capability.NoTimes {
		return ctx.Err()
	}
	err := f.tell(ctx, true, func(c *ftplink.Conn) error {
		if !c.IsSetTimeSupported() {
			return nil
		}
		return c.SetTime(f.at(name), a.Modified)
	})
	if d := denied(err); d != nil {
		return f.why(ctx, name, d)
	}
	return err
}

// Sync implements hostfs.Writer: there is no way to.
func (f *Files) Sync(ctx context.Context, _ ...string) error { return ctx.Err() }
