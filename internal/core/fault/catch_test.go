package fault_test

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"

	"reshard/internal/core/fault"
)

// A panic is an error of what was being done: a defect, whose text does not go out.
func TestAPanicIsAnError(t *testing.T) {
	t.Parallel()
	err := fault.Safely(func() error { panic("index out of range, with a password") })
	assert.ErrorContains(t, err, "catch_test.go", "the log tells where")
	assert.Equal(t, fault.Internal, fault.CodeOf(err))
	what, _ := fault.Words(err)
	assert.NotContains(t, what, "password")
	own := errors.New("own")
	assert.Equal(t, own, fault.Safely(func() error { return own }))
	assert.NoError(t, fault.Safely(func() error { return nil }))
}

// What a cause says that has no code stays inside, where it may hold anything.
func TestACauseWithoutACodeStaysInside(t *testing.T) {
	t.Parallel()
	cause := errors.New("dial tcp 10.0.0.5:5432: password authentication failed for user \"x\"")
	for _, err := range []error{
		fault.Wrap(fault.Internal, "read", "arrival", cause),
		&fault.Error{
			Code: fault.Unreachable,
			Op:   "list",
			Path: "users",
			What: "the database cannot be reached",
			Err:  cause,
		},
		fault.Wrap(fault.NotFound, "find", "x", fault.Wrap(fault.Internal, "read", "y", cause)),
		cause,
	} {
		what, next := fault.Words(err)
		assert.NotContains(t, what, "10.0.0.5")
		assert.NotEmpty(t, what)
		assert.NotEmpty(t, next)
	}
	what, _ := fault.Words(fault.Wrap(fault.Refused, "open", "save", errors.New("permission denied")))
	assert.Contains(t, what, "permission denied", "what a host says of a file is for people")
}
