package api

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"reflect"

	"github.com/danielgtaylor/huma/v2"

	"reshard/internal/core/fault"
)

// listed is the input of an operation that is told very many things: its body is read as it
// comes, one member of its lists at a time, so that it takes no more memory than what it
// lists.
type listed struct{ body io.Reader }

// Resolve keeps the body's reader; huma calls it before the handler.
func (i *listed) Resolve(ctx huma.Context) []error {
	i.body = ctx.BodyReader()
	return nil
}

// readListed reads an object of known members of at most most bytes.
func readListed(in io.Reader, most int64, members map[string]func(*json.Decoder) error) error {
	limited := &io.LimitedReader{R: in, N: most + 1}
	dec := json.NewDecoder(limited)
	wrong := func(err error) error {
		if limited.N <= 0 {
			return fault.New(fault.TooLarge, "read", "the request", "it has more than %d bytes", most)
		}
		var coded *fault.Error
		if err == nil || errors.As(err, &coded) {
			return err
		}
		return huma.NewError(http.StatusBadRequest, "the body is not what is asked for: "+err.Error())
	}
	if open, err := dec.Token(); err != nil {
		return wrong(err)
	} else if open != json.Delim('{') {
		return wrong(errors.New("it is no object"))
	}
	for dec.More() {
		name, err := dec.Token()
		if err != nil {
			return wrong(err)
		}
		read, ok := members[name.(string)] // a member's name is text
		if !ok {
			return fault.New(fault.Invalid, "read", "the request", "it has a member %q, which is not known", name)
		}
		if err := read(dec); err != nil {
			return wrong(err)
		}
	}
	_, err := dec.Token()
	return wrong(err)
}

// unread gives the problem of a body that was not read.
func (a *API) unread(err error) error {
	var own *problem
	if errors.As(err, &own) {
		return own
	}
	return a.failed(err)
}

// eachOf reads a list of at most most members.
func eachOf[T any](into *[]T, most int) func(*json.Decoder) error {
	return func(dec *json.Decoder) error {
		open, err := dec.Token()
		if err != nil || open == nil {
			return err
		}
		if open != json.Delim('[') {
			return errors.New("a list is no list")
		}
		for dec.More() {
			if len(*into) == most {
				return fault.New(fault.TooLarge, "read", "the request", "it lists more than %d; that is the limit",
					most)
			}
			var one T
			if err := dec.Decode(&one); err != nil {
				return err
			}
			*into = append(*into, one)
		}
		_, err = dec.Token()
		return err
	}
}

// one reads a single value.
func one[T any](into *T) func(*json.Decoder) error {
	return func(dec *json.Decoder) error { return dec.Decode(into) }
}

// takesListed registers an operation that reads its body by readListed. The body is described
// afterwards: the library reads and takes apart whatever it has a description of.
func takesListed[O any](a *API, o huma.Operation, body any, do func(context.Context, *listed) (*O, error)) {
	o.RequestBody = &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{}}
	huma.Register(a.huma, o, do)
	o.RequestBody.Content["application/json"] = &huma.MediaType{
		Schema: a.huma.OpenAPI().Components.Schemas.Schema(reflect.TypeOf(body), true, ""),
	}
}
