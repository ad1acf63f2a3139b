package provider

import (
	"context"
	"io"
	"path"

	"reshard/internal/core/provider"
	"reshard/internal/hostfs"
	"reshard/internal/providerlink"
)

// archives has the provider unpack what stands among a server's files.
type archives struct {
	hired   *hired
	machine string
}

// Archives implements host.Provider.
func (h *hired) Archives(machine string) hostfs.Archives {
	if h.link.Description().Unpack.Request == nil {
		return nil
	}
	return &archives{h, machine}
}

// Title implements hostfs.Archives.
func (a *archives) Title() string { return a.hired.Title() }

// Format implements hostfs.Archives.
func (a *archives) Format() string { return a.hired.link.Description().Unpack.Format }

// UploadLimit implements hostfs.Archives.
func (a *archives) UploadLimit() int64 { return a.hired.link.Description().Upload.Most() }

func named(name string) provider.Values {
	return provider.Values{"path": name, "folder": path.Dir(name), "name": path.Base(name)}
}

// Upload implements hostfs.Archives.
func (a *archives) Upload(ctx context.Context, name string, size int64, open func() (io.ReadCloser, error)) error {
	return a.hired.link.Send(ctx, a.hired.link.Description().Upload.Request, a.machine, named(name),
		providerlink.File{Name: path.Base(name), Size: size, Open: open})
}

// Unpack implements hostfs.Archives.
func (a *archives) Unpack(ctx context.Context, name, into string) error {
	_, err := a.hired.link.Ask(ctx, a.hired.link.Description().Unpack.Request, a.machine,
		named(name).With("into", into))
	return err
}
