package fault_test

import (
	"errors"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/fault"
)

// A code without words would reach a person as a bare identifier, so the test
// reads the source: no constant of type Code may be missing from the table.
func TestEveryCodeHasWords(t *testing.T) {
	t.Parallel()
	file, err := parser.ParseFile(token.NewFileSet(), "fault.go", nil, 0)
	require.NoError(t, err)
	declared := map[string]bool{}
	ast.Inspect(file, func(n ast.Node) bool {
		spec, ok := n.(*ast.ValueSpec)
		if !ok {
			return true
		}
		if id, ok := spec.Type.(*ast.Ident); ok && id.Name == "Code" {
			lit := spec.Values[0].(*ast.BasicLit)
			declared[strings.Trim(lit.Value, `"`)] = true
		}
		return true
	})
	require.NotEmpty(t, declared)
	worded := map[string]bool{}
	for _, c := range fault.Codes() {
		worded[string(c)] = true
	}
	assert.Equal(t, declared, worded)
}

func TestWrapKeepsTheInnermostCode(t *testing.T) {
	t.Parallel()
	inner := fault.New(fault.NoSpace, "write", "a/b", "disk full")
	err := fault.Wrap(fault.Internal, "stage", "copy 1", inner)
	assert.Equal(t, fault.NoSpace, fault.CodeOf(err))
	assert.ErrorIs(t, err, fault.NoSpace.As())
	assert.NotErrorIs(t, err, fault.Busy.As())
	assert.Equal(t, "stage copy 1: write a/b: disk full", err.Error())
}

func TestWords(t *testing.T) {
	t.Parallel()
	what, todo := fault.Words(fault.New(fault.Busy, "put", "north", "held by changeover 4").With("Wait for 4."))
	assert.Equal(t, "put north: held by changeover 4", what)
	assert.Equal(t, "Wait for 4.", todo)
	what, todo = fault.Words(&fs.PathError{Op: "open", Path: "/secret", Err: errors.New("x")})
	assert.NotContains(t, what, "/secret", "the text of an unclassified error is not for people")
	assert.NotEmpty(t, todo)
}

// What to do, and what can be chosen, is found in errors that were joined as well: a file that could not be written
// is closed all the same, and both are told.
func TestAdviceOfJoinedErrors(t *testing.T) {
	t.Parallel()
	cause := fault.New(fault.Damaged, "read", "f1", "it is damaged").With("Send it again.")
	cause.Options = []string{"yes"}
	cause.Labels = []string{"do so"}
	err := fault.Wrap(fault.Internal, "write", "f1", errors.Join(nil, cause, nil))
	what, next := fault.Words(err)
	assert.Contains(t, what, "it is damaged")
	assert.Equal(t, "Send it again.", next)
	assert.Equal(t, []string{"yes"}, fault.Options(err))
	assert.Equal(t, []string{"do so"}, fault.Labels(err))
}
