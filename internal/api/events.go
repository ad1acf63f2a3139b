package api

import (
	"encoding/json"
	"fmt"
	"net/http"
	"reflect"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
)

// events writes server-sent events (HTML Living Standard, section 9.2). It is
// safe for concurrent use: a heartbeat goes out beside the events.
type events struct {
	mu      sync.Mutex
	w       interface{ Write([]byte) (int, error) }
	flusher http.Flusher
}

func (e *events) send(name string, value any) error {
	data, err := json.Marshal(value)
	if err != nil {
		return err
	}
	return e.write(fmt.Sprintf("event: %s\ndata: %s\n\n", name, data))
}

func (e *events) write(frame string) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	if _, err := e.w.Write([]byte(frame)); err != nil {
		return err
	}
	if e.flusher != nil {
		e.flusher.Flush()
	}
	return nil
}

// stream answers with server-sent events; run sends them until it returns.
func stream(run func(ctx huma.Context, e *events)) *huma.StreamResponse {
	return &huma.StreamResponse{Body: func(ctx huma.Context) {
		ctx.SetHeader("Content-Type", "text/event-stream")
		ctx.SetHeader("X-Accel-Buffering", "no")
		e := &events{w: ctx.BodyWriter()}
		e.flusher, _ = ctx.BodyWriter().(http.Flusher)
		tick := time.NewTicker(heartbeat)
		defer tick.Stop()
		done := make(chan struct{})
		defer close(done)
		go func() {
			for {
				select {
				case <-done:
					return
				case <-tick.C:
					if e.write(": still here\n\n") != nil {
						return
					}
				}
			}
		}()
		run(ctx, e)
	}}
}

// streams documents an event stream whose data are values of one type.
func streams[T any](api huma.API, o huma.Operation) huma.Operation {
	schema := huma.SchemaFromType(api.OpenAPI().Components.Schemas, reflect.TypeFor[T]())
	o.Responses = map[string]*huma.Response{"200": {
		Description: "Server-sent events; each event's data is one JSON value of this schema.",
		Content:     map[string]*huma.MediaType{"text/event-stream": {Schema: schema}},
	}}
	return o
}
