package fault

import (
	"fmt"
	"runtime/debug"
)

// Catch makes a panic an error of what was being done, when it is deferred: a goroutine that
// panics would end the whole service. The error is a defect (Internal), whose text, with
// where it happened, is logged and does not go out.
func Catch(err *error) {
	if p := recover(); p != nil {
		*err = fmt.Errorf("panic: %v\n%s", p, debug.Stack())
	}
}

// Safely does something whose panic is its error.
func Safely(do func() error) (err error) {
	defer Catch(&err)
	return do()
}
