//go:build !linux

package records

import "time"

// awake is a clock that never leaps.
func awake() time.Duration { return time.Since(begun) }

var begun = time.Now()
