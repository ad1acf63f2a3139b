package hostfs

import (
	"context"
	"io"
	"io/fs"
	"time"

	"reshard/internal/core/capability"
)

// Driver is what a kind of host must be able to do with files. Callers use a Place; only
// a Place calls a Driver.
//
// Names are valid by fs.ValidPath, from the root of the tree; "." is the root itself.
// Nothing that a driver does follows a link out of the root.
//
// Calls may come from several goroutines at once, also for one name: of many renames of
// one name, and of many onto one name with replace false, exactly one succeeds.
//
// Every call returns soon after its context has ended, with the context's error. What
// was asked for may have happened all the same: the caller looks.
//
// Errors carry one of these codes of package fault, or match the error of io/fs that is
// named; all others are taken for a defect:
//
//	NotFound    (fs.ErrNotExist)   the name, or a folder above it, is not there
//	Exists      (fs.ErrExist)      the name is taken
//	NotEmpty                       a folder that should be empty is not
//	Refused     (fs.ErrPermission) the host does not let the service
//	NoSpace                        the disk, or an allowance, is full
//	CrossDevice                    a rename would cross file systems
//	Unsupported                    the host has no way to do this
//	Unreachable                    the host does not answer; what was asked for may have happened
//	TooSlow                        it took longer than it may; likewise
//	Invalid                        the host takes no such name, or the name is a folder or no regular file
type Driver interface {
	// Capabilities says what the host can do. It may try things out, in a file of its
	// own that it removes.
	Capabilities(ctx context.Context) (capability.Set, error)
	Reader
	Writer
}

// Reader is the half of a Driver that changes nothing.
type Reader interface {
	// Stat looks at a name without following it, if it is a link.
	Stat(ctx context.Context, name string) (Info, error)
	// List gives all names in a folder, in order, or an error: never a part of them.
	// Only a whole list shows that a name is not there. The entries' Info gives an Info.
	List(ctx context.Context, name string) ([]fs.DirEntry, error)
	// Open opens a regular file to be read while ctx lasts. What is no regular file is
	// Invalid at once: a named pipe is never waited for.
	Open(ctx context.Context, name string) (Content, error)
}

// Writer is the half of a Driver that changes something.
type Writer interface {
	// Create makes a file, or empties one that is there. What is written is there once
	// Close has returned nil; until then a part of it may be. An error of Write or Close
	// leaves the file in any state.
	Create(ctx context.Context, name string) (io.WriteCloser, error)
	// Mkdir makes a folder whose parent is there.
	Mkdir(ctx context.Context, name string) error
	// Rename gives a file or a folder another name, in one act. With replace, a file of
	// the new name is replaced by a file; without, a name that is taken is Exists.
	Rename(ctx context.Context, from, to string, replace bool) error
	// Remove removes a file or an empty folder.
	Remove(ctx context.Context, name string) error
	// Set sets attributes; what is zero in them stays as it is.
	Set(ctx context.Context, name string, a Attributes) error
	// Sync makes survive a power cut what was written to files, and renamed in folders.
	// Without the capability it does nothing.
	Sync(ctx context.Context, names ...string) error
}

// Abilities that only some drivers have.
type (
	// Spacer tells how many bytes are free where a name is, and on which file system
	// that is: two names with the same one can be renamed into each other's folders.
	Spacer interface {
		Space(ctx context.Context, name string) (free int64, filesystem string, err error)
	}
	// SyncAller makes all that was written so far survive a power cut at once.
	SyncAller interface {
		SyncAll(ctx context.Context) error
	}
	// Mover renames without replacing, as Rename does, and makes that survive a power cut, in
	// less time than one after the other takes.
	Mover interface {
		Move(ctx context.Context, from, to string) error
	}
	// Appender goes on writing a file from a place in it, where an earlier writing was cut.
	// What stands from there on is written over; Close as with Create.
	Appender interface {
		Append(ctx context.Context, name string, at int64) (io.WriteCloser, error)
	}
	// Hasty writes a file without a look at what has arrived: whoever writes looks at all of them together.
	Hasty interface {
		CreateHasty(ctx context.Context, name string) (io.WriteCloser, error)
	}
	// Unpacker takes many files as one stream, a tar archive (GNU format) whose names are from
	// the root, and gives the hashes, as of Hasher, of all regular files that are below a folder
	// afterwards, "" gives none. After an error any of them may be there, whole or in part.
	// Unsupported: the host cannot do that, whatever its kind can.
	Unpacker interface {
		Unpack(ctx context.Context, from io.Reader, below string) (map[string][]byte, error)
	}
	// Hasher makes hashes over there: BLAKE2b with 256 bits (RFC 7693) of regular files, whole.
	// Names that are not there are left out. Unsupported as with Unpacker.
	Hasher interface {
		Hash(ctx context.Context, names []string) (map[string][]byte, error)
	}
	// Copier copies regular files over there, to names whose folders are there and that are
	// written over. copied is told, from any goroutine, the place in files of each of which a
	// part was copied, and whether that was its end: those that are not there, or are no
	// regular files, are left out. After an error any of them may be there, whole or in part.
	// Never is anything linked: whoever writes to the one would write to the other.
	// Unsupported as with Unpacker.
	Copier interface {
		CopyThere(ctx context.Context, files []Copying, copied func(i int, whole bool)) error
	}
	// Snapshotter takes an SQLite database as it stands at one moment, while others may write to it, by
	// SQLite's own means (sqlite.org/backup.html): what is read is a database file that needs no other beside
	// it. Whoever else has it open waits as for any reader. Unsupported as with Unpacker; Invalid: it is no
	// database.
	Snapshotter interface {
		Snapshot(ctx context.Context, name string) (io.ReadCloser, error)
	}
	// Distant is a host on which each question costs: an observation then asks no name by
	// itself that a listing has told of.
	Distant interface {
		// OpenSeen opens a regular file as it was seen in a listing a moment ago.
		OpenSeen(ctx context.Context, name string, seen Info) (Content, error)
		// Ahead is how many folders may be listed ahead of being asked for, so that nobody else
		// waits for it; 0: none.
		Ahead() int
	}
	// Stander tells whether the opened tree is still what its address names: an open
	// folder is followed wherever it is moved.
	Stander interface {
		Standing(ctx context.Context) (bool, error)
	}
	// Notifier tells when something changes in folders: a name is made, written, renamed
	// or removed, though not what is in folders below. changed may be called at any time,
	// from any goroutine, and also when nothing has changed; it must return at once. What
	// changes while Watch returns is told, too. cancel ends it. Unsupported: the host has
	// no room for more folders that are watched.
	Notifier interface {
		Watch(ctx context.Context, folders []string, changed func()) (cancel func(), err error)
	}
	// Judge tells whether an account of the host may write to what an Info is of.
	Judge interface {
		MayWrite(account string, i Info) (may, known bool)
	}
)

// Content is an open file, read from its beginning or from any place in it. It goes on
// giving what the file held when it was opened also when another takes the file's place.
type Content interface {
	io.ReadCloser
	io.ReaderAt
	Stat() (Info, error)
}

// Info is what a host tells of a file or a folder. It is an fs.FileInfo.
type Info struct {
	Named    string
	Bytes    int64
	Modes    fs.FileMode
	Modified time.Time
	// Account is who it belongs to, in the host's own form, which Set takes again; "" is
	// not known.
	Account string
	// ID is the same for the same file or folder under any name, as long as it is there; "" is not known.
	ID string
}

// Name, Size, Mode, ModTime, IsDir and Sys implement fs.FileInfo; Sys gives the Info.
func (i Info) Name() string       { return i.Named }
func (i Info) Size() int64        { return i.Bytes }
func (i Info) Mode() fs.FileMode  { return i.Modes }
func (i Info) ModTime() time.Time { return i.Modified }
func (i Info) IsDir() bool        { return i.Modes.IsDir() }
func (i Info) Sys() any           { return i }

// Copying is a file that is copied over there, and the attributes that the copy gets.
type Copying struct {
	From, To string
	Attributes
}

// Attributes are what can be set of a file or a folder; zero values are left alone.
type Attributes struct {
	Modified time.Time
	Mode     fs.FileMode // the permission bits
	Account  string
}
