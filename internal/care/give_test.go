package care

import (
	"context"
	"errors"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"

	"catena/internal/address"
)

// Giving an address has one outcome: what the device has in the end, whatever ended the waiting.
func TestGiftOutcome(t *testing.T) {
	other := &address.OtherServerError{Address: netip.MustParseAddr("10.20.4.9")}
	for _, c := range []struct {
		last address.Step
		err  error
		want GiftOutcome
		says bool // with an error
	}{
		{address.Takes, nil, Given, false},
		{address.Takes, context.DeadlineExceeded, Given, false},
		{address.Takes, context.Canceled, Given, false},
		{address.Takes, other, Disputed, true},
		{address.Declined, address.ErrInUse, Declined, true},
		{address.Declined, context.DeadlineExceeded, Declined, true},
		{address.Asks, context.DeadlineExceeded, NeverAsks, false},
		{address.Ignored, context.DeadlineExceeded, NeverAsks, false},
		{address.Asks, other, NotGiven, true},
		{address.Ignored, address.ErrRights, NotGiven, true},
		{address.Asks, errors.New("the adapter is gone"), NotGiven, true},
	} {
		got, err := giftOutcome(c.last, c.err)
		assert.Equal(t, c.want, got, "%s %v", c.last, c.err)
		assert.Equal(t, c.says, err != nil, "%s %v", c.last, c.err)
	}
}
