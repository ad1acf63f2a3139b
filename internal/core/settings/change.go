package settings

// Change is what an edit makes of a document: it is worked out once and carried from the
// sheet to the plan and what the plan shows.
type Change struct {
	Before, After *Document
}

// Diff shows the change as a unified diff, in UTF-8; "" when nothing changes.
func (c Change) Diff() string {
	return Diff(c.Before.name, []byte(c.Before.Text()), []byte(c.After.Text()))
}

// Set changes one more value. The error has code BadSettings when the format cannot hold
// it, or the value must not be edited.
func (c Change) Set(key, value string) (Change, error) {
	after, err := c.After.Set(key, value)
	if err != nil {
		return c, err
	}
	return Change{Before: c.Before, After: after}, nil
}

// Begin gives a change of a document in which nothing has changed yet.
func (d *Document) Begin() Change { return Change{Before: d, After: d} }
