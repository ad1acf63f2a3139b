package providerlink

import (
	"bytes"
	"io"
	"mime/multipart"

	"reshard/internal/core/fault"
	"reshard/internal/core/provider"
)

// withFile gives a body that is a file, or a form with it (RFC 7578), its kind and its length. The length is
// known before: many a page takes no file that has none.
func (l *Link) withFile(r *provider.Request, values provider.Values, f File, touch func()) (
	body io.Reader, kind string, length int64, err error,
) {
	from, err := f.Open()
	if err != nil {
		return nil, "", 0, err
	}
	touched := &touching{ReadCloser: from, touch: touch}
	if r.File == provider.FileBody {
		return touched, "application/octet-stream", f.Size, nil
	}
	var frame bytes.Buffer
	form := multipart.NewWriter(&frame)
	for name, text := range r.Form {
		if err := form.WriteField(name, values.Text(text)); err != nil {
			return nil, "", 0, fault.Wrap(fault.Invalid, "ask the provider of", l.account.Name, err)
		}
	}
	if _, err := form.CreateFormFile(r.File, f.Name); err != nil {
		return nil, "", 0, fault.Wrap(fault.Invalid, "ask the provider of", l.account.Name, err)
	}
	head := frame.Len()
	if err := form.Close(); err != nil {
		return nil, "", 0, fault.Wrap(fault.Invalid, "ask the provider of", l.account.Name, err)
	}
	all := frame.Bytes()
	return &framed{
		Reader: io.MultiReader(bytes.NewReader(all[:head]), touched, bytes.NewReader(all[head:])), Closer: from,
	}, form.FormDataContentType(), int64(len(all)) + f.Size, nil
}

type framed struct {
	io.Reader
	io.Closer
}

// touching tells of what is read.
type touching struct {
	io.ReadCloser
	touch func()
}

func (t *touching) Read(p []byte) (int, error) {
	n, err := t.ReadCloser.Read(p)
	t.touch()
	return n, err
}
