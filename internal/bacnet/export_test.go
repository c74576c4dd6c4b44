package bacnet

import "time"

// Hurry has a client wait for a tenth of the usual times, and for this long in all.
func (c *Client) Hurry(longest time.Duration) {
	c.answerIn, c.segmentIn, c.longest = answerIn/10, segmentIn/10, longest
}

// What reads and writes the parts of messages.
var (
	ReadValue    = readValue
	AppendValue  = appendValue
	ReadProperty = property
)
