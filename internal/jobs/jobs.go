// Package jobs is the queue of what the service does by itself: River's, on the service's database. Jobs are
// worked at only by the service that acts on it.
package jobs

import (
	"context"
	"log/slog"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"
	"github.com/riverqueue/river/rivertype"

	"reshard/internal/core/fault"
)

// atOnce is how many jobs are worked at at the same time.
const atOnce = 8

// never is for what River would do by itself after a time: a leap of the clock is no time.
const never = 100 * 365 * 24 * time.Hour

// whileAway is how long a job is put off while this service may not act.
const whileAway = 5 * time.Second

// Queue is the queue. It is safe for concurrent use; kinds are told before it is opened.
type Queue struct {
	pool    *pgxpool.Pool
	acting  func() error
	log     *slog.Logger
	workers *river.Workers
	client  *river.Client[pgx.Tx]
	stop    context.CancelFunc
}

// New makes a queue over a database; acting is nil while this service may act.
func New(pool *pgxpool.Pool, acting func() error, log *slog.Logger) *Queue {
	return &Queue{pool: pool, acting: acting, log: log, workers: river.NewWorkers()}
}

// Try is one try at a job.
type Try[T river.JobArgs] struct {
	Args T
	// Last: it is not tried again.
	Last bool
}

type worker[T river.JobArgs] struct {
	river.WorkerDefaults[T]
	q    *Queue
	work func(context.Context, Try[T]) error
}

// Work implements river.Worker.
func (w *worker[T]) Work(ctx context.Context, job *river.Job[T]) (err error) {
	defer fault.Catch(&err)
	if w.q.acting() != nil {
		return Later(whileAway)
	}
	return w.work(ctx, Try[T]{Args: job.Args, Last: job.Attempt >= job.MaxAttempts})
}

// Handle says how jobs of a kind are worked at. An error is tried again, later and later; Later puts a job off,
// which is no try, and Never ends it.
func Handle[T river.JobArgs](q *Queue, work func(context.Context, Try[T]) error) {
	river.AddWorker(q.workers, &worker[T]{q: q, work: work})
}

// Later puts a job off.
func Later(d time.Duration) error { return river.JobSnooze(d) }

// Never ends a job that has failed for good.
func Never(err error) error { return river.JobCancel(err) }

// Open begins to work, until life ends.
func (q *Queue) Open(ctx, life context.Context) error {
	driver := riverpgxv5.New(q.pool)
	migrator, err := rivermigrate.New(driver, &rivermigrate.Config{Logger: quiet(q.log)})
	if err == nil {
		_, err = migrator.Migrate(ctx, rivermigrate.DirectionUp, nil)
	}
	if err != nil {
		return fault.Wrap(fault.Internal, "prepare", "job queue", err)
	}
	// What is at work belongs to a service that is dead: only one acts on the records.
	if _, err := q.pool.Exec(ctx, `UPDATE river_job SET state = 'available' WHERE state = 'running'`); err != nil {
		return fault.Wrap(fault.Internal, "prepare", "job queue", err)
	}
	q.client, err = river.NewClient(driver, &river.Config{
		Queues: map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: atOnce}}, Workers: q.workers,
		Logger:     quiet(q.log),
		JobTimeout: -1, RescueStuckJobsAfter: never,
	})
	if err != nil {
		return fault.Wrap(fault.Internal, "open", "job queue", err)
	}
	life, q.stop = context.WithCancel(life)
	if err := q.client.Start(life); err != nil {
		q.stop()
		return fault.Wrap(fault.Internal, "open", "job queue", err)
	}
	return nil
}

// longest is how long a job waits of itself: before the last of nine tries River lets some 70 minutes pass. One that
// is to be done now has waited for some seconds at most (soon).
const (
	longest = 2 * time.Hour
	soon    = time.Minute
)

// Sooner has jobs done that wait for a time that lies far ahead because the clock was set back. Whoever has a queue
// calls it now and then.
func (q *Queue) Sooner(ctx context.Context) error {
	_, err := q.pool.Exec(ctx, `UPDATE river_job SET scheduled_at = now() WHERE scheduled_at > now() + $1::interval
		AND (state = 'available' OR state IN ('scheduled', 'retryable') AND scheduled_at > now() + $2::interval)`,
		soon, longest)
	return fault.Wrap(fault.Unreachable, "look at the times of", "job queue", err)
}

// quiet leaves out what River tells of its own daily work.
func quiet(log *slog.Logger) *slog.Logger { return slog.New(warnings{log.Handler()}) }

type warnings struct{ slog.Handler }

// Enabled implements slog.Handler.
func (w warnings) Enabled(ctx context.Context, l slog.Level) bool {
	return l >= slog.LevelWarn && w.Handler.Enabled(ctx, l)
}

// Close waits until nothing of it is at work.
func (q *Queue) Close() {
	if q.stop == nil {
		return
	}
	q.stop()
	<-q.client.Stopped()
}

// Add adds a job, in a transaction when one is given. fresh is false when one is there already that has the same
// values in the fields marked river:"unique".
func (q *Queue) Add(ctx context.Context, tx pgx.Tx, args river.JobArgs, tries int) (fresh bool, err error) {
	opts := &river.InsertOpts{
		MaxAttempts: tries,
		UniqueOpts: river.UniqueOpts{ByArgs: true, ByState: []rivertype.JobState{
			rivertype.JobStateAvailable, rivertype.JobStatePending, rivertype.JobStateRetryable,
			rivertype.JobStateRunning,
			rivertype.JobStateScheduled,
		}},
	}
	var got *rivertype.JobInsertResult
	if tx != nil {
		got, err = q.client.InsertTx(ctx, tx, args, opts)
	} else {
		got, err = q.client.Insert(ctx, args, opts)
	}
	if err != nil {
		return false, fault.Wrap(fault.Unreachable, "add to", "job queue", err)
	}
	return !got.UniqueSkippedAsDuplicate, nil
}
