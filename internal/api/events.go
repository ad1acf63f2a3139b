package api

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"reflect"
	"sync"
	"time"

	"reshard/internal/core/fault"
	"reshard/internal/feed"
	"reshard/internal/wire"

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
func (a *API) stream(ctx context.Context, run func(ctx huma.Context, e *events)) (*huma.StreamResponse, error) {
	give, err := a.streaming.take(userOf(ctx))
	if err != nil {
		return nil, a.failed(err)
	}
	context.AfterFunc(ctx, give) // it ends with the request
	return &huma.StreamResponse{Body: func(ctx huma.Context) {
		ctx.SetHeader("Content-Type", "text/event-stream")
		ctx.SetHeader("X-Accel-Buffering", "no")
		e := &events{w: ctx.BodyWriter()}
		e.flusher, _ = ctx.BodyWriter().(http.Flusher)
		tick := time.NewTicker(heartbeat)
		defer tick.Stop()
		done := make(chan struct{})
		var beating sync.WaitGroup
		// Nothing is written any more once this returns: what it is written to is gone then.
		defer beating.Wait()
		defer close(done)
		beating.Go(func() {
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
		})
		run(ctx, e)
	}}, nil
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

// logsAtOnce bounds the logs that one stream follows.
const logsAtOnce = 8

// watched is what a browser asks to be told of.
type watched struct {
	Servers     bool     `query:"servers" doc:"events server and gone"`
	Changeovers bool     `query:"changeovers" doc:"event changeover"`
	Backups     bool     `query:"backups" doc:"events backup and alerts"`
	Arrivals    bool     `query:"arrivals" doc:"event arrivals"`
	Logs        []string `query:"log,explode" maxItems:"8" doc:"names of servers: event log"`
	Last        int      `query:"last" default:"200" minimum:"0" maximum:"5000" doc:"lines of each log to begin with"`
}

func (w watched) want(k feed.Kind, _ string) bool {
	switch k {
	case feed.Server, feed.Gone:
		return w.Servers
	case feed.Changeover:
		return w.Changeovers
	case feed.Arrivals:
		return w.Arrivals
	case feed.Backup, feed.Alerts:
		return w.Backups
	}
	return false
}

// LogLines are new lines of a server's log.
type LogLines struct {
	Server string         `json:"server"`
	Lines  []wire.LogLine `json:"lines"`
}

func (a *API) eventRoutes() {
	o := op("watch", http.MethodGet, "/events",
		"Watch all that is asked for on one stream: an event a change, each the whole thing as it is now", "events")
	o.Responses = map[string]*huma.Response{"200": {
		Description: "Server-sent events: server, gone, changeover, arrivals, backup, alerts and log. What has been " +
			"the case before " +
			"the stream begins is not told: ask for it once the event open has come.",
		Content: map[string]*huma.MediaType{"text/event-stream": {Schema: &huma.Schema{Type: huma.TypeString}}},
	}}
	huma.Register(a.huma, o, func(ctx context.Context, in *watched) (*huma.StreamResponse, error) {
		if len(in.Logs) > logsAtOnce {
			return nil, a.failed(
				fault.New(fault.Invalid, "watch", "logs", "a stream follows at most %d logs", logsAtOnce))
		}
		return a.stream(ctx, func(hctx huma.Context, e *events) { a.watch(hctx.Context(), *in, e) })
	})
}

func (a *API) watch(ctx context.Context, in watched, e *events) {
	ctx, end := context.WithCancel(ctx)
	var logs sync.WaitGroup
	defer logs.Wait()
	defer end()
	s := a.service.Feed.Watch(in.want)
	defer s.Close()
	if e.send("open", in.Logs) != nil {
		return
	}
	for _, name := range in.Logs {
		logs.Go(func() {
			err := fault.Safely(func() error {
				return a.service.Fleet.FollowLog(ctx, name, in.Last, func(lines []wire.LogLine) error {
					return e.send("log", LogLines{Server: name, Lines: lines})
				})
			})
			if err != nil {
				a.log.Debug("log stream ended", "server", name, "error", err)
			}
		})
	}
	// A person reads ten pictures a second at most.
	tick := time.NewTicker(100 * time.Millisecond)
	defer tick.Stop()
	for ctx.Err() == nil {
		for _, one := range s.Next(ctx) {
			if e.send(string(one.Kind), one.Value) != nil {
				return
			}
		}
		select {
		case <-ctx.Done():
		case <-tick.C:
		}
	}
}
