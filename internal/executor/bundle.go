package executor

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"golang.org/x/sync/errgroup"

	"reshard/internal/archive"
	"reshard/internal/core/fault"
	"reshard/internal/hostfs"
)

// worthBundling is from how many files on one archive takes less time than they do one by one, where each
// takes a connection.
const worthBundling = 24

// readOfBundle is how many files of an archive are read back where a sample is compared: each has a sum in it
// that whoever unpacks it checks.
const readOfBundle = 3

// bundles reports whether a staging of so many files goes over as one archive, which the host's provider
// unpacks.
func (s *stager) bundles(files int) bool {
	return s.can.UnpackFiles && s.can.Costly && !s.streams() && files >= worthBundling
}

// bundle sends what is missing as one archive. What does not stand there afterwards as it should is left to
// be sent by itself, and unbundled says why: a provider may unpack in ways of its own.
func (s *stager) bundle(ctx context.Context, files []stagedFile) error {
	rest := s.missing(files)
	if !s.bundles(len(rest)) {
		return s.makeLeft(ctx)
	}
	page, sent := s.Files.Archives(), s.progress.Bytes
	work := s.job.Plan.Work
	// Beside the working folder, where it is swept when nobody takes it away.
	name := path.Join(path.Dir(work), "going-"+path.Base(work)+"."+page.Format())
	err := s.sendBundle(ctx, name, s.items(ctx, rest, work))
	if err == nil {
		err = s.Files.UnpackFile(ctx, name, work)
	}
	s.progress.Bytes = sent // what was sent is told again once it is known to stand there
	switch fault.CodeOf(err) {
	case "":
	case fault.Refused, fault.Unsupported, fault.TooLarge, fault.NoSpace:
		what, _ := fault.Words(err)
		s.unbundled = fmt.Sprintf("%s did not unpack the archive (%s)", page.Title(), what)
	default:
		return err
	}
	group, gctx := errgroup.WithContext(ctx) // each takes some round trips
	group.Go(func() (err error) {
		defer fault.Catch(&err)
		return s.Files.Discard(gctx, name)
	})
	group.Go(func() (err error) {
		defer fault.Catch(&err)
		if s.unbundled != "" {
			return s.makeLeft(gctx)
		}
		return s.compareUnpacked(gctx, page, rest)
	})
	return group.Wait()
}

// items are what an archive holds: folders and files, named from a folder.
func (s *stager) items(ctx context.Context, files []stagedFile, from string) []archive.Item {
	within := func(name string) string { return strings.TrimPrefix(name, from+"/") }
	items := make([]archive.Item, 0, len(s.staged.folders)+len(files))
	for _, dir := range s.staged.folders {
		items = append(items, archive.Item{Name: within(dir) + "/", Modified: files[0].Modified})
	}
	for _, f := range files {
		items = append(items, archive.Item{
			Name: within(f.to), Size: f.Size, Modified: f.Modified,
			Open: func() (io.ReadCloser, error) { return io.NopCloser(s.Vault.Read(ctx, f.File)), nil },
		})
	}
	return items
}

// sendBundle puts an archive there: by the provider's own upload when it is not too large for that, else as
// a file like any other.
func (s *stager) sendBundle(ctx context.Context, name string, items []archive.Item) error {
	page, sent := s.Files.Archives(), s.progress.Bytes
	packed := func() *io.PipeReader {
		from, in := io.Pipe()
		go func() {
			_ = in.CloseWithError(fault.Safely(func() error { // it never fails
				return archive.Write(in, page.Format(), items, func(n int64) { s.copied(sent + n) })
			}))
		}()
		return from
	}
	if most := page.UploadLimit(); most > 0 {
		size := &limited{most: most}
		err := archive.Write(size, page.Format(), items, nil)
		switch {
		case err == nil:
			err := s.Files.UploadFile(ctx, name, size.n, func() (io.ReadCloser, error) { return packed(), nil })
			if c := fault.CodeOf(err); c != fault.Refused && c != fault.TooLarge {
				return err
			} // it may take less than it is said to
		case !errors.Is(err, errOverLimit):
			return err
		}
	}
	from := packed()
	defer from.Close() //nolint:errcheck // whoever packs ends; it never fails
	_, err := s.Files.Write(ctx, name, from, hostfs.Attributes{})
	return err
}

var errOverLimit = errors.New("larger than may be sent so")

// limited counts what is written, up to a limit.
type limited struct{ n, most int64 }

func (l *limited) Write(p []byte) (int, error) {
	if l.n += int64(len(p)); l.n > l.most {
		return 0, errOverLimit
	}
	return len(p), nil
}

// compareUnpacked looks whether the files stand there with their sizes, and reads some of them back. When one
// of those is not what was sent, none of them counts.
func (s *stager) compareUnpacked(ctx context.Context, page hostfs.Archives, files []stagedFile) error {
	stand, gone, err := s.standing(ctx, files, s.staged.folders)
	if err == nil {
		s.staged.folders = gone // some leave out empty ones
		err = s.makeLeft(ctx)
	}
	if err != nil {
		return err
	}
	if len(stand) < len(files) {
		s.unbundled = fmt.Sprintf("%s left out %d of %d files when it unpacked the archive", page.Title(),
			len(files)-len(stand), len(files))
	}
	read := stand
	if s.step.BySample {
		read = make([]stagedFile, 0, readOfBundle)
		for _, i := range spread(len(stand), readOfBundle) {
			read = append(read, stand[i])
		}
	}
	same := map[string]bool{}
	err = s.eachOf(ctx, read, func(ctx context.Context, f stagedFile) (bool, error) {
		err := s.readBack(ctx, f)
		if fault.CodeOf(err) == fault.Damaged && !fault.Passing(err) {
			return false, nil
		}
		if err == nil {
			s.staged.mu.Lock()
			same[f.to] = true
			s.staged.mu.Unlock()
		}
		return false, err
	})
	if err != nil {
		return err
	}
	if len(same) < len(read) {
		s.unbundled = fmt.Sprintf("%s unpacked the archive to something else than it holds", page.Title())
		return nil
	}
	for _, f := range stand {
		s.arrived(f)
	}
	s.bundled = page.Title()
	return nil
}
