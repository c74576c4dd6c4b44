package scripted

import (
	"context"

	"catena/internal/family"
	"catena/internal/wire"
)

// tftpCarrier sends an image to a device that takes it by TFTP, such as a boot loader.
type tftpCarrier struct{ place *place }

func (tftpCarrier) close() {}

func (c tftpCarrier) ask(ctx context.Context, _ *family.Step, f family.Filled, image *cargo) (
	family.Answer, error) {
	return family.Answer{}, wire.PutTFTP(ctx, c.place.at.Address, f.Command, image.body())
}
