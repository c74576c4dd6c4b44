package onvif

import (
	"bytes"
	"context"
	"encoding/xml"

	"catena/internal/device"
)

// SetPassword changes the password of the login's user: SetUser (ONVIF Core, 8.4.6), with the user
// level that it has (GetUsers, 8.4.4).
func (t *session) SetPassword(ctx context.Context, fresh string) error {
	e, err := t.call(ctx, `<tds:GetUsers/>`, true)
	if err != nil {
		return err
	}
	if e.Body.Users == nil {
		return device.ErrUnsupported
	}
	for _, u := range e.Body.Users.User {
		if u.Name != t.as.User {
			continue
		}
		var b bytes.Buffer // which takes everything
		b.WriteString(`<tds:SetUser><tds:User>`)
		for _, field := range [][2]string{{"Username", u.Name}, {"Password", fresh},
			{"UserLevel", u.Level}} {
			b.WriteString("<tt:" + field[0] + ">")
			_ = xml.EscapeText(&b, []byte(field[1]))
			b.WriteString("</tt:" + field[0] + ">")
		}
		b.WriteString(`</tds:User></tds:SetUser>`)
		_, err := t.call(ctx, b.String(), true)
		return err
	}
	return device.ErrUnsupported
}
