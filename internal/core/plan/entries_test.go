package plan_test

import (
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"reshard/internal/core/plan"
)

// What can be wished for is told once: the wish's own list is that of the kinds.
func TestAWishNamesEveryKindThatCanBeWishedFor(t *testing.T) {
	t.Parallel()
	f, ok := reflect.TypeFor[plan.Wish]().FieldByName("Kind")
	assert.True(t, ok)
	// backups have calls of their own
	wished := plan.KindsThat(func(k plan.Kind) bool { return len(k.Needs) > 0 && !k.GivesWay })
	assert.ElementsMatch(t, wished, strings.Split(f.Tag.Get("enum"), ","))
}

func TestEveryKindHasWords(t *testing.T) {
	t.Parallel()
	p := plan.Plan{World: "Fen", Folder: "fen", Server: "north", From: "south", Undoes: 3}
	titles := map[string]bool{}
	for name, k := range plan.Kinds {
		p.Kind = name
		assert.NotEmpty(t, p.Title(), name)
		assert.False(t, titles[p.Title()], "%s is called as another one", name)
		titles[p.Title()] = true
		assert.True(t, strings.HasSuffix(p.Outcome(plan.End{Copy: "0123456789abcdef"}), "."), name)
		for _, need := range k.Needs {
			w := plan.Wish{Kind: name, Server: "s", World: "w", From: "f", Undoes: 1}
			assert.Empty(t, w.Lacks(), name)
			switch need {
			case "server":
				w.Server = ""
			case "world":
				w.World = ""
			case "from":
				w.From = ""
			case "undoes":
				w.Undoes = 0
			}
			assert.Equal(t, need+" is missing", w.Lacks(), name)
		}
	}
	assert.Equal(t, "server and world are missing", plan.Wish{Kind: plan.Put}.Lacks())
	assert.NotEmpty(t, plan.Wish{Kind: "odd"}.Lacks())
	assert.NotEmpty(t, plan.Wish{Kind: plan.FirstStart, Server: "s"}.Lacks(), "nobody wishes for it")
	assert.Equal(t, "odd “Fen”", plan.Plan{Kind: "odd", World: "Fen"}.Title(), "of a build to come")
}
