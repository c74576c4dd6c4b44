package bacnet

import "time"

// Hurry has a client wait for a tenth of the usual times, and for this long in all.
func (c *Client) Hurry(longest time.Duration) {
	c.answerIn, c.segmentIn, c.longest = answerIn/10, segmentIn/10, longest
}

// MaxAnswer is the longest answer in segments.
const MaxAnswer = maxAnswer
