package api

import (
	"fmt"

	"reshard/internal/wire"
)

// page is a part of a list. Where there is more, Link says where (RFC 8288, rel next).
type page[T any] struct {
	Link string `header:"Link" doc:"where the next page is, with rel next; absent on the last"`
	Body []T
}

// paged answers with a page of the list that query asked for.
func paged[T any](path string, query any, items []T, next string) *page[T] {
	out := &page[T]{Body: items}
	if out.Body == nil {
		out.Body = []T{}
	}
	if next != "" {
		v := wire.Values(query)
		v.Set("after", next)
		out.Link = fmt.Sprintf("</api/v1%s?%s>; rel=\"next\"", path, v.Encode())
	}
	return out
}
