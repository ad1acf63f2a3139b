package records

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"testing"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/assert"

	"reshard/internal/core/fault"
)

// What the database says, and what that means for whoever asked.
func TestClasses(t *testing.T) {
	t.Parallel()
	said := func(code string) error { return fmt.Errorf("query: %w", &pgconn.PgError{Code: code}) }
	_, refused := pgconn.Connect(context.Background(), "postgres://nobody@127.0.0.1:1/none")
	for name, c := range map[string]struct {
		err  error
		code fault.Code
	}{
		"nothing of that name":     {sql.ErrNoRows, fault.NotFound},
		"a name that is taken":     {said("23505"), fault.Exists},
		"it shuts down":            {said("57P01"), fault.Unreachable},
		"it cancelled the query":   {said("57014"), fault.Unreachable},
		"no connection to spare":   {said("53300"), fault.Unreachable},
		"it takes no connection":   {refused, fault.Unreachable},
		"its disk is full":         {said("53100"), fault.NoSpace},
		"a wrong query":            {said("42601"), fault.Internal},
		"no answer in time":        {context.DeadlineExceeded, fault.Unreachable},
		"whoever asked has left":   {context.Canceled, fault.Interrupted},
		"the line was cut":         {errors.New("unexpected EOF"), fault.Unreachable},
		"a class of its own stays": {fault.New(fault.Busy, "", "", "held"), fault.Busy},
	} {
		err := classify("ask", "database", c.err)
		assert.Equal(t, c.code, fault.CodeOf(err), name)
		assert.ErrorIs(t, err, c.err, name)
	}
	assert.NoError(t, classify("ask", "database", nil))
}
