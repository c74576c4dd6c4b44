package words_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"catena/internal/words"
)

func TestWordsForNumbers(t *testing.T) {
	assert.Equal(t, "1023 B", words.Bytes(1023))
	assert.Equal(t, "1.0 KiB", words.Bytes(1024))
	assert.Equal(t, "1.5 MiB", words.Bytes(1.5*(1<<20)))
	assert.Equal(t, "3:07", words.Clock(187*time.Second))
	assert.Equal(t, "1:02:33", words.Clock(3753*time.Second))
	assert.Equal(t, "1 device", words.Plural(1, "device"))
}

func TestAn(t *testing.T) {
	for word, want := range map[string]string{"Osmere": "an Osmere", "Tollgarth": "a Tollgarth", "": "a "} {
		assert.Equal(t, want, words.An(word))
	}
}
