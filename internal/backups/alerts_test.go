package backups

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/records"
	"reshard/internal/records/recordstest"
)

func TestMain(m *testing.M) { recordstest.Main(m) }

// A target that alerts do not reach for a while is an alert itself, until telling it works again. A mail server that
// asks to be tried later is none.
func TestATargetThatIsNotReachedIsAnAlert(t *testing.T) {
	t.Parallel()
	r, err := records.Open(t.Context(), recordstest.Database(t), records.Claim{Who: "test"})
	require.NoError(t, err)
	t.Cleanup(r.Close)
	now := time.Now().UTC().Truncate(time.Millisecond)
	begun := now
	b := &Backups{with: Config{Records: r}, now: func() time.Time { return now }}
	target, err := r.AddNoticeTarget(t.Context(), records.NoticeTarget{Name: "watch", CreatedBy: "ada"})
	require.NoError(t, err)
	told := func(trouble string) {
		require.NoError(t, r.NoticeTold(t.Context(), target.ID, trouble, now))
	}
	of := func() []string {
		list, err := b.untold(t.Context())
		require.NoError(t, err)
		out := []string{}
		for _, a := range list {
			out = append(out, a.Of+" | "+a.Says+" | "+a.Next)
			assert.WithinDuration(t, begun, a.Since, 0, "since the first failure, not the last")
		}
		return out
	}
	told("tell watch: it sent a line of more than 64 kB")
	assert.Empty(t, of())
	now = now.Add(untoldFor)
	told("tell watch: it sent a line of more than 64 kB")
	assert.Equal(t, []string{"watch | Alerts do not reach target watch: it sent a line of more than 64 kB. | " +
		"Check it: reshard alerts targets try watch"}, of())
	told("")
	assert.Empty(t, of())
}
