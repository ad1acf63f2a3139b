// Package local is the files of this machine: a hostfs.Driver over a folder.
package local

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/user"
	"path"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"reshard/internal/core/capability"
	"reshard/internal/core/fault"
	"reshard/internal/core/filename"
	"reshard/internal/hostfs"
)

// Files is a folder of this machine. os.Root keeps every name inside it, links included.
type Files struct {
	root *os.Root
	path string
}

// Open opens a folder of this machine; path must be absolute and exist.
func Open(path string) (*Files, error) {
	root, err := os.OpenRoot(path)
	if err != nil {
		return nil, class(err)
	}
	return &Files{root: root, path: path}, nil
}

// Close gives the folder back.
func (f *Files) Close() error { return f.root.Close() }

// class gives an error of the operating system its class; its errno does not leave this
// package as anything that a caller would ask for.
func class(err error) error {
	if err == nil {
		return nil
	}
	code := fault.Code("")
	switch {
	case errors.Is(err, syscall.ENOTEMPTY):
		code = fault.NotEmpty
	case errors.Is(err, syscall.ENOSPC), errors.Is(err, syscall.EDQUOT):
		code = fault.NoSpace
	case errors.Is(err, syscall.EXDEV):
		code = fault.CrossDevice
	case errors.Is(err, syscall.EROFS):
		code = fault.Refused
	case errors.Is(err, syscall.ENAMETOOLONG), errors.Is(err, syscall.ELOOP):
		code = fault.Invalid
	case errors.Is(err, syscall.EISDIR):
		code = fault.Exists
	case errors.Is(err, syscall.ENOTDIR):
		code = fault.NotFound // below a file there is nothing
	case errors.Is(err, syscall.ENOTSUP), errors.Is(err, syscall.ENOSYS):
		code = fault.Unsupported
	case errors.Is(err, syscall.ESTALE), errors.Is(err, syscall.ENOTCONN), errors.Is(err, syscall.EHOSTDOWN),
		errors.Is(err, syscall.ETIMEDOUT):
		code = fault.Unreachable // a file system of another machine
	default:
		return err // not there, there already, not allowed: io/fs tells
	}
	return &fault.Error{Code: code, Err: bare(err)}
}

// bare takes the path out of an error: the place tells it.
func bare(err error) error {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		return pe.Err
	}
	return err
}

// Capabilities of a folder of this machine. Only root gives files away; a file of a
// special file system may still refuse, which the act itself then says.
func (f *Files) Capabilities(ctx context.Context) (capability.Set, error) {
	return capability.Set{
		AtomicReplace: true, Exclusive: true, RenameFolders: true, Sync: true, FreeSpace: true, Commands: true,
		Events: true, Databases: true,
		Owners: os.Geteuid() == 0, Account: fmt.Sprintf("%d:%d", os.Geteuid(), os.Getegid()), Modes: true,
		ExactCase: true, AnyName: true, TimePrecision: time.Millisecond, Pace: 20 * time.Millisecond, AtOnce: 2,
	}, ctx.Err()
}

func infoOf(i fs.FileInfo) hostfs.Info {
	out := hostfs.Info{Named: filename.Encode(i.Name()), Bytes: i.Size(), Modes: i.Mode(), Modified: i.ModTime()}
	if st, ok := i.Sys().(*syscall.Stat_t); ok {
		out.Account = fmt.Sprintf("%d:%d", st.Uid, st.Gid)
		out.ID = fmt.Sprintf("%d:%d", st.Dev, st.Ino)
	}
	return out
}

// Stat implements hostfs.Reader.
func (f *Files) Stat(ctx context.Context, name string) (hostfs.Info, error) {
	if err := ctx.Err(); err != nil {
		return hostfs.Info{}, err
	}
	info, err := f.root.Lstat(filename.Decode(name))
	if err != nil {
		return hostfs.Info{}, class(err)
	}
	return infoOf(info), nil
}

// entry gives its Info as the place wants it.
type entry struct {
	fs.DirEntry
	name string
}

// Name is the name as a tree has it.
func (e entry) Name() string { return e.name }

// readDir lists a folder of any name, in the order of names; an io/fs tree takes only those in
// UTF-8.
func readDir(root *os.Root, name string) ([]fs.DirEntry, error) {
	dir, err := root.Open(name)
	if err != nil {
		return nil, err
	}
	defer dir.Close() //nolint:errcheck // only read
	list, err := dir.ReadDir(-1)
	slices.SortFunc(list, func(a, b fs.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
	return list, err
}

func (e entry) Info() (fs.FileInfo, error) {
	info, err := e.DirEntry.Info()
	if err != nil {
		return nil, class(err)
	}
	return infoOf(info), nil
}

// List implements hostfs.Reader.
func (f *Files) List(ctx context.Context, name string) ([]fs.DirEntry, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	entries, err := readDir(f.root, filename.Decode(name))
	if err != nil {
		return nil, class(err)
	}
	renamed := false
	for i, e := range entries {
		name := filename.Encode(e.Name())
		renamed = renamed || name != e.Name()
		entries[i] = entry{e, name}
	}
	if renamed { // they are in the order of their bytes
		slices.SortFunc(entries, func(a, b fs.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
	}
	return entries, nil
}

// content is an open file; it is read while its context lasts.
type content struct {
	*os.File
	ctx context.Context
}

func (c content) Read(p []byte) (int, error) {
	if err := c.ctx.Err(); err != nil {
		return 0, err
	}
	return c.File.Read(p)
}

func (c content) ReadAt(p []byte, at int64) (int, error) {
	if err := c.ctx.Err(); err != nil {
		return 0, err
	}
	return c.File.ReadAt(p, at)
}

func (c content) Stat() (hostfs.Info, error) {
	info, err := c.File.Stat()
	if err != nil {
		return hostfs.Info{}, class(err)
	}
	return infoOf(info), nil
}

// Open implements hostfs.Reader. A named pipe or a device is opened without waiting, and
// refused.
func (f *Files) Open(ctx context.Context, name string) (hostfs.Content, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	file, err := f.root.OpenFile(filename.Decode(name), os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, class(err)
	}
	info, err := file.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = fault.New(fault.Invalid, "", "", "it is no regular file")
	}
	if err != nil {
		return nil, errors.Join(class(err), file.Close())
	}
	return content{file, ctx}, nil
}

// written is a file that is written while its context lasts.
type written struct {
	*os.File
	ctx context.Context
}

func (w written) Write(p []byte) (int, error) {
	if err := w.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := w.File.Write(p)
	return n, class(err)
}

func (w written) Close() error { return class(w.File.Close()) }

// Create implements hostfs.Writer.
func (f *Files) Create(ctx context.Context, name string) (io.WriteCloser, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	file, err := f.root.OpenFile(filename.Decode(name), os.O_WRONLY|os.O_CREATE|os.O_TRUNC|syscall.O_NONBLOCK, 0o644)
	if err != nil {
		return nil, class(err)
	}
	return written{file, ctx}, nil
}

// Mkdir implements hostfs.Writer.
func (f *Files) Mkdir(ctx context.Context, name string) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	return class(f.root.Mkdir(filename.Decode(name), 0o755))
}

// Rename implements hostfs.Writer. Without replace the kernel refuses a name that is
// taken (renameat2(2), RENAME_NOREPLACE); a file system that does not know that is
// looked at first.
func (f *Files) Rename(ctx context.Context, from, to string, replace bool) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	from, to = filename.Decode(from), filename.Decode(to)
	if replace {
		return class(f.root.Rename(from, to))
	}
	err := f.between(from, to, func(a, b *os.File) error {
		return unix.Renameat2(int(a.Fd()), path.Base(from), int(b.Fd()), path.Base(to), unix.RENAME_NOREPLACE)
	})
	if !errors.Is(err, syscall.EINVAL) && !errors.Is(err, syscall.ENOSYS) {
		return class(err)
	}
	if _, serr := f.root.Lstat(to); !errors.Is(serr, fs.ErrNotExist) {
		return errors.Join(fs.ErrExist, serr)
	}
	return class(f.root.Rename(from, to))
}

// between does something with the folders of two names open.
func (f *Files) between(from, to string, do func(a, b *os.File) error) error {
	a, err := f.root.Open(path.Dir(from))
	if err != nil {
		return err
	}
	defer a.Close() //nolint:errcheck // only a handle
	b, err := f.root.Open(path.Dir(to))
	if err != nil {
		return err
	}
	defer b.Close() //nolint:errcheck // only a handle
	return do(a, b)
}

// Remove implements hostfs.Writer.
func (f *Files) Remove(ctx context.Context, name string) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	return class(f.root.Remove(filename.Decode(name)))
}

// Set implements hostfs.Writer. The account goes first: giving a file away takes set-id
// bits off it.
func (f *Files) Set(ctx context.Context, name string, a hostfs.Attributes) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	name = filename.Decode(name)
	if a.Account != "" {
		uid, gid, err := numbers(a.Account)
		if err != nil {
			return err
		}
		if err := f.root.Lchown(name, uid, gid); err != nil {
			return class(err)
		}
	}
	if a.Mode != 0 {
		if err := f.root.Chmod(name, a.Mode.Perm()); err != nil {
			return class(err)
		}
	}
	if !a.Modified.IsZero() {
		return class(f.root.Chtimes(name, a.Modified, a.Modified))
	}
	return nil
}

func numbers(account string) (uid, gid int, err error) {
	u, g, ok := strings.Cut(account, ":")
	uid, uerr := strconv.Atoi(u)
	gid, gerr := strconv.Atoi(g)
	if !ok || uerr != nil || gerr != nil {
		return 0, 0, fault.New(fault.Invalid, "", "", "%q is no account of this machine", account)
	}
	return uid, gid, nil
}

// MayWrite implements hostfs.Judge by the permission bits, with the groups that the
// account is in. Access lists are not looked at.
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
	switch {
	case uid == 0:
		return true, true
	case uid == owner:
		return i.Modes>>6&need == need, true
	case gid == group || inGroup(uid, group):
		return i.Modes>>3&need == need, true
	}
	return i.Modes&need == need, true
}

func inGroup(uid, gid int) bool {
	u, err := user.LookupId(strconv.Itoa(uid))
	if err != nil {
		return false
	}
	groups, err := u.GroupIds()
	return err == nil && slices.Contains(groups, strconv.Itoa(gid))
}

// Sync implements hostfs.Writer.
func (f *Files) Sync(ctx context.Context, names ...string) error {
	for _, name := range names {
		if err := ctx.Err(); err != nil {
			return err
		}
		file, err := f.root.Open(filename.Decode(name))
		if err != nil {
			return class(err)
		}
		if err := errors.Join(file.Sync(), file.Close()); err != nil {
			return class(err)
		}
	}
	return nil
}

// SyncAll implements hostfs.SyncAller.
func (f *Files) SyncAll(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	root, err := f.root.Open(".")
	if err != nil {
		return class(err)
	}
	return class(errors.Join(unix.Syncfs(int(root.Fd())), root.Close()))
}

// Space implements hostfs.Spacer. The nearest folder that is there stands for a name that
// is not there yet.
func (f *Files) Space(ctx context.Context, name string) (free int64, filesystem string, err error) {
	if err := ctx.Err(); err != nil {
		return 0, "", err
	}
	name = filename.Decode(name)
	file, err := f.root.Open(name)
	for errors.Is(err, fs.ErrNotExist) && name != "." {
		name = path.Dir(name)
		file, err = f.root.Open(name)
	}
	if err != nil {
		return 0, "", class(err)
	}
	defer file.Close() //nolint:errcheck // only looked at
	var st unix.Statfs_t
	if err := unix.Fstatfs(int(file.Fd()), &st); err != nil {
		return 0, "", class(err)
	}
	info, err := file.Stat()
	if err != nil {
		return 0, "", class(err)
	}
	device := ""
	if sys, ok := info.Sys().(*syscall.Stat_t); ok {
		device = strconv.FormatUint(sys.Dev, 16)
	}
	return int64(st.Bavail) * st.Bsize, device, nil
}

// Standing implements hostfs.Stander.
func (f *Files) Standing(ctx context.Context) (bool, error) {
	if err := ctx.Err(); err != nil {
		return false, err
	}
	there, err := os.Stat(f.path)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, class(err)
	}
	opened, err := f.root.Stat(".")
	return err == nil && os.SameFile(there, opened), class(err)
}
