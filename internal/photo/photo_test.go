package photo_test

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"catena/internal/photo"
)

// taken is a photograph of 2000 × 1000 pixels, red on its left, that a camera held upright has
// taken: its EXIF says that it is to be turned by 90 degrees, and where it was taken.
func taken(t *testing.T) []byte {
	p := image.NewRGBA(image.Rect(0, 0, 2000, 1000))
	for x := range 2000 {
		for y := range 1000 {
			c := color.RGBA{B: 255, A: 255}
			if x < 1000 {
				c = color.RGBA{R: 255, A: 255}
			}
			p.Set(x, y, c)
		}
	}
	var b bytes.Buffer
	require.NoError(t, jpeg.Encode(&b, p, nil))
	tiff := []byte("MM\x00\x2a\x00\x00\x00\x08") // TIFF 6.0: big-endian, the first directory at 8
	tiff = append(tiff, 0, 2)
	tiff = append(tiff, 0x01, 0x12, 0, 3, 0, 0, 0, 1, 0, 6, 0, 0)      // Orientation: 6
	tiff = append(tiff, 0x88, 0x25, 0, 4, 0, 0, 0, 1, 0, 0, 0, 8)      // GPS
	tiff = append(tiff, []byte("\x00\x00\x00\x00here is the lock")...) // no further directory
	exif := append([]byte("Exif\x00\x00"), tiff...)
	head := append([]byte{0xff, 0xe1}, binary.BigEndian.AppendUint16(nil, uint16(len(exif)+2))...)
	raw := b.Bytes()
	return bytes.Join([][]byte{raw[:2], head, exif, raw[2:]}, nil)
}

func TestShrink(t *testing.T) {
	var out bytes.Buffer
	require.NoError(t, photo.Shrink(&out, bytes.NewReader(taken(t))))
	assert.NotContains(t, out.String(), "Exif")
	assert.NotContains(t, out.String(), "here is the lock")
	p, format, err := image.Decode(&out)
	require.NoError(t, err)
	assert.Equal(t, "jpeg", format)
	assert.Equal(t, image.Rect(0, 0, 800, 1600), p.Bounds(), "smaller, and the right way up")
	r, _, b, _ := p.At(400, 100).RGBA()
	assert.Greater(t, r, b, "what was on the left is on top")

	small := image.NewGray(image.Rect(0, 0, 3, 2))
	var raw bytes.Buffer
	require.NoError(t, png.Encode(&raw, small))
	out.Reset()
	require.NoError(t, photo.Shrink(&out, &raw))
	c, _, err := image.DecodeConfig(&out)
	require.NoError(t, err)
	assert.Equal(t, 3, c.Width, "it is not made larger")
}

func TestWhatIsNoPicture(t *testing.T) {
	assert.ErrorIs(t, photo.Shrink(&bytes.Buffer{}, strings.NewReader("GIF89a")), photo.ErrFormat)
	assert.ErrorIs(t, photo.Shrink(&bytes.Buffer{}, strings.NewReader("")), photo.ErrFormat)
	cut := taken(t)[:2000]
	assert.Error(t, photo.Shrink(&bytes.Buffer{}, bytes.NewReader(cut)))
	// A PNG that declares 60,000 × 60,000 pixels is refused before it takes any memory.
	var raw bytes.Buffer
	require.NoError(t, png.Encode(&raw, image.NewGray(image.Rect(0, 0, 1, 1))))
	bomb := raw.Bytes()
	binary.BigEndian.PutUint32(bomb[16:], 60000)
	binary.BigEndian.PutUint32(bomb[20:], 60000)
	bomb = append(
		bomb[:29:29],
		append(binary.BigEndian.AppendUint32(nil, crcOf(bomb[12:29])), bomb[33:]...)...)
	assert.ErrorContains(
		t,
		photo.Shrink(&bytes.Buffer{}, bytes.NewReader(bomb)),
		"more than the limit",
	)
}

func crcOf(chunk []byte) uint32 { return crc32.ChecksumIEEE(chunk) }

// Where a photograph was taken is read only on request: GPSLatitude and GPSLongitude (EXIF 3.0,
// 4.6.6), each as degrees, minutes and seconds.
func TestPosition(t *testing.T) {
	be := binary.BigEndian
	tiff := []byte("MM\x00\x2a\x00\x00\x00\x08")
	entry := func(tag, kind uint16, count, value uint32) {
		tiff = be.AppendUint16(be.AppendUint16(tiff, tag), kind)
		tiff = be.AppendUint32(be.AppendUint32(tiff, count), value)
	}
	tiff = be.AppendUint16(tiff, 1)
	entry(0x8825, 4, 1, 26) // the GPS directory follows the first one: 8 + 2 + 12 + 4
	tiff = be.AppendUint32(tiff, 0)
	tiff = be.AppendUint16(tiff, 4)
	numbers := uint32(26 + 2 + 4*12 + 4)
	entry(1, 2, 2, uint32('N')<<24)
	entry(2, 5, 3, numbers)
	entry(3, 2, 2, uint32('W')<<24)
	entry(4, 5, 3, numbers+24)
	tiff = be.AppendUint32(tiff, 0)
	for _, n := range []uint32{52, 6, 7, 1, 59, 42} { // 52° 6' 7" N, 1° 59' 42" W
		tiff = be.AppendUint32(be.AppendUint32(tiff, n), 1)
	}
	exif := append([]byte("Exif\x00\x00"), tiff...)
	head := append([]byte{0xff, 0xe1}, be.AppendUint16(nil, uint16(len(exif)+2))...)
	var b bytes.Buffer
	require.NoError(t, jpeg.Encode(&b, image.NewGray(image.Rect(0, 0, 8, 8)), nil))
	raw := b.Bytes()
	where, err := photo.Position(bytes.Join([][]byte{raw[:2], head, exif, raw[2:]}, nil))
	require.NoError(t, err)
	assert.Equal(t, "52.10194, -1.99500", where)

	for _, without := range [][]byte{raw, taken(t), []byte("no picture"), nil} {
		_, err := photo.Position(without)
		assert.ErrorIs(t, err, photo.ErrNoPosition)
	}
}
