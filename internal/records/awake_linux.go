package records

import (
	"time"

	"golang.org/x/sys/unix"
)

// awake is a clock that never leaps and goes on while the machine sleeps.
func awake() time.Duration {
	var ts unix.Timespec
	if err := unix.ClockGettime(unix.CLOCK_BOOTTIME, &ts); err != nil {
		return time.Since(begun)
	}
	return time.Duration(ts.Nano())
}

var begun = time.Now()
