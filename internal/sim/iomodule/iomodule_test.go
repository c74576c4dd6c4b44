package iomodule_test

import (
	"bytes"
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/sim"
	"catena/internal/sim/standintest"
)

// request is an encapsulation header without data: CIP Networks Library, volume 2, 2-3.1.
func request(command uint16, context string) []byte {
	out := make([]byte, 24)
	binary.LittleEndian.PutUint16(out, command)
	copy(out[12:20], context)
	return out
}

// ListIdentity is answered with one identity item, whose lengths hold, and with the context of who
// asked (2-4.2). Other commands, and incomplete headers, get no answer.
func TestListIdentity(t *testing.T) {
	address := standintest.Start(t, sim.Device{Kind: "io", Model: "HD-IO8", Version: "4.12"})
	answer := standintest.Ask(t, address, request(0x63, "first")[:23], request(0x64, "second"),
		request(0x63, "third"))
	le := binary.LittleEndian
	require.Greater(t, len(answer), 24+6+33)
	assert.EqualValues(t, 0x63, le.Uint16(answer))
	assert.EqualValues(t, len(answer)-24, le.Uint16(answer[2:]), "length of what follows the header")
	assert.Zero(t, le.Uint32(answer[8:]), "status")
	assert.Equal(t, "third\x00\x00\x00", string(answer[12:20]))
	assert.EqualValues(t, 1, le.Uint16(answer[24:]), "items")
	assert.EqualValues(t, 0x0c, le.Uint16(answer[26:]), "type of the item")
	item := answer[30:]
	assert.EqualValues(t, len(item), le.Uint16(answer[28:]))
	assert.EqualValues(t, 1, le.Uint16(item), "version of the protocol")
	assert.Equal(t, []byte{0, 2, 0xaf, 0x12}, item[2:6], "family and port, in network order")
	assert.Equal(t, []byte{4, 12}, item[24:26], "revision")
	name := item[33 : 33+int(item[32])]
	assert.Equal(t, "HD-IO8", string(name))
	assert.Len(t, item, 33+len(name)+1, "the state is the last byte")
	assert.False(t, bytes.Contains(item, []byte("first")))
}
