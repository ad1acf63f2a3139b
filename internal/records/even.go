package records

import "time"

// even is a time to measure with: it goes on as time passes, whatever the machine's clock is set to. Times of two lives
// of the service are as far apart as the machine's clock said when each began.
func even() time.Time { return evenBegun.Add(awake() - evenAwake) }

var evenBegun, evenAwake = time.Now().Round(0), awake()
