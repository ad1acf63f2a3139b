package executor

import (
	"context"
	"encoding/json"
	"strings"

	"reshard/internal/core/fault"
	"reshard/internal/core/life"
	"reshard/internal/core/plan"
)

// Detail is what a step leaves in the journal.
type Detail struct {
	// TookMS is how long the game itself took to stop or to start.
	TookMS int64 `json:"tookMs,omitempty"`
	// Clean is false when a stopped server did not say that all was written.
	Clean bool `json:"clean,omitempty"`
	// Already says that a server was down before it was asked to stop, Evidence how it is
	// known to be down, and Word whose word that is. Builds before did not tell.
	Already  bool          `json:"already,omitempty"`
	Evidence life.Evidence `json:"evidence,omitempty"`
	Word     string        `json:"word,omitempty"`
	// Before and After are SHA-256 of a settings file's bytes.
	Before string `json:"before,omitempty"`
	After  string `json:"after,omitempty"`
	// Samples are what the proof compares with.
	Samples []Sample `json:"samples,omitempty"`
	// Copy is the id of the copy that was made, Bytes and Files what it holds; Read is
	// how much of it had to be read.
	Copy  string `json:"copy,omitempty"`
	Bytes int64  `json:"bytes,omitempty"`
	Files int    `json:"files,omitempty"`
	Read  int64  `json:"read,omitempty"`
	// Known is how many files of it were known by size and time, Wholeness how it is known to be one
	// state of the world, Moved some of the files that changed while it was made.
	Known     int            `json:"known,omitempty"`
	Wholeness plan.Wholeness `json:"wholeness,omitempty"`
	Moved     []string       `json:"moved,omitempty"`
	// LeftOut are files that are called as the world's and begin otherwise: they are no part of the copy.
	LeftOut []string `json:"leftOut,omitempty"`
	// Compared is how what was staged was compared with the copy.
	Compared string `json:"compared,omitempty"`
	// Bundled is who has unpacked an archive of it, Unbundled why it went file by file all the same.
	Bundled   string `json:"bundled,omitempty"`
	Unbundled string `json:"unbundled,omitempty"`
	// Reuse is how much of it its host had already.
	Reuse reuse `json:"reuse,omitzero"`
	// Retitled is the staged file that a title was written into.
	Retitled string `json:"retitled,omitempty"`
	// Opened is the world whose name was written as the server told it.
	Opened string `json:"opened,omitempty"`
	// By says who gave the word that was waited for.
	By string `json:"by,omitempty"`
	// Strays are what was set aside while the step was at work, or taken back: the server had made it since the switch
	// began.
	Strays []string `json:"strays,omitempty"`
	// Proof is the prove step's result.
	Proof *plan.Proof `json:"proof,omitempty"`
}

// ByPeople reports whether people stopped the server: signs or a word say that it is down.
func (d Detail) ByPeople() bool { return d.Evidence == life.Sign || d.Evidence == life.Word }

// DetailOf is what a step has left; an unreadable one counts as empty.
func DetailOf(s plan.StepRecord) (d Detail) {
	if len(s.Left) > 0 {
		_ = json.Unmarshal(s.Left, &d) // our own writing
	}
	return d
}

// stepKind is all that the runner knows of one kind of step; the fields that a step of the
// kind has are in package plan.
//
// A crash, or an answer that was lost, may come anywhere within act and back: each may be
// called again for a step that has been carried out in part or whole, by this life of the
// service or an earlier one, and finds out from the files and processes alone what has
// happened. An error that fault.Passing says passes is waited out and the same is called
// again; any other ends the way forward, or holds the way back. Only one is called at a
// time.
type stepKind struct {
	// prepare does before the stop what need not be done within it. What it makes may be
	// lost, and is then made by act. nil: nothing.
	prepare func(r *Runner, ctx context.Context, n int, step plan.Step) error
	// act does the step. What it leaves for the journal may be nil.
	act func(r *Runner, ctx context.Context, n int, step plan.Step) (*Detail, error)
	// back takes back a step that was intended, whether or not it has happened. nil: it
	// changes nothing.
	back func(r *Runner, ctx context.Context, n int, step plan.Step) error
	// forget removes what prepare has made and nobody needs any more. nil: nothing.
	forget func(r *Runner, ctx context.Context, step plan.Step) error
	// underNone: the step must not happen under a running server, forward or back.
	underNone bool
	// says tells a person what to know of how a step went, and how much was written or
	// read, in bytes. nil: nothing.
	says func(step plan.Step, d Detail) (note string, bytes int64)
}

// stepKinds are all kinds of step but the wait, which the runner does itself.
func stepKinds() map[string]stepKind {
	return map[string]stepKind{
		plan.Stage: {
			act:  (*Runner).stage,
			back: func(r *Runner, ctx context.Context, _ int, _ plan.Step) error { return r.unstage(ctx) },
			says: saysOfStage,
		},
		plan.Retitle: {act: (*Runner).retitle},
		plan.Sample:  {act: (*Runner).sample},
		plan.Copy: {
			act:  (*Runner).copyWorld,
			says: saysOfCopy,
		},
		plan.Tell: {act: (*Runner).say, back: (*Runner).unsay},
		plan.Stop: {act: (*Runner).stop, back: (*Runner).unstop, says: saysOfStop},
		plan.Move: {
			prepare:   (*Runner).prepareMove,
			act:       (*Runner).moveAll,
			back:      (*Runner).moveAllBack,
			underNone: true,
		},
		plan.Write: {
			prepare: (*Runner).prepareWriting, act: (*Runner).write, back: (*Runner).unwrite,
			forget: func(r *Runner, ctx context.Context, step plan.Step) error {
				return r.Files.Forget(ctx, step.File)
			},
			underNone: true,
		},
		plan.Start: {act: (*Runner).start, back: (*Runner).unstart},
		plan.Prove: {act: (*Runner).proveAll},
		plan.Wait: {
			says: func(_ plan.Step, d Detail) (string, int64) {
				if d.By == "" {
					return "", 0
				}
				return "The word came from " + d.By + ".", 0
			},
		},
	}
}

func kindOf(step plan.Step) stepKind { return stepKinds()[step.Kind] }

// Says tells a person what to know of how a step went, and how much was written or read,
// in bytes; d is what it has left in the journal.
func Says(step plan.Step, d Detail) (note string, bytes int64) {
	if says := kindOf(step).says; says != nil {
		note, bytes = says(step, d)
	}
	if len(d.Strays) > 0 {
		note = strings.TrimSpace(note + " The server had made " + strings.Join(d.Strays, ", ") +
			" meanwhile: it was set aside.")
	}
	return note, bytes
}

func (r *Runner) act(ctx context.Context, n int, step plan.Step) (detail *Detail, err error) {
	defer fault.Catch(&err) // what panics has failed, and is taken back as anything that fails
	k := kindOf(step)
	if k.act == nil {
		return nil, fault.New(fault.Internal, "run", step.Kind, "no step of this kind")
	}
	if k.underNone {
		if err := r.keepDown(ctx, n, step); err != nil {
			return nil, err
		}
	}
	return k.act(r, ctx, n, step)
}

// unact takes a step back that has been intended or done.
func (r *Runner) unact(ctx context.Context, n int, step plan.Step) error {
	k := kindOf(step)
	if k.back == nil {
		return nil
	}
	if k.underNone {
		if err := r.keepDownOnTheWayBack(ctx, n, step); err != nil {
			return err
		}
	}
	return k.back(r, ctx, n, step)
}

// prepareStep does before the stop what need not be done within it.
func (r *Runner) prepareStep(ctx context.Context, n int, step plan.Step) error {
	if prepare := kindOf(step).prepare; prepare != nil {
		return prepare(r, ctx, n, step)
	}
	return nil
}

// unprepare removes what prepareStep has made.
func (r *Runner) unprepare(ctx context.Context, step plan.Step) error {
	if forget := kindOf(step).forget; forget != nil {
		return forget(r, ctx, step)
	}
	return nil
}

func (r *Runner) proof() (plan.Proof, error) {
	for n, s := range r.job.Plan.Steps {
		if s.Kind != plan.Prove {
			continue
		}
		var d Detail
		if err := json.Unmarshal(r.job.Steps[n].Left, &d); err != nil || d.Proof == nil {
			return plan.Proof{}, fault.New(fault.Internal, "read proof of", r.job.Plan.Server, "the journal holds none")
		}
		return *d.Proof, nil
	}
	return plan.Proof{}, fault.New(fault.Internal, "prove", r.job.Plan.Server, "the plan has no proof")
}
