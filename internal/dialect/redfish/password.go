package redfish

import (
	"context"
	"net/http"

	"catena/internal/device"
)

// SetPassword changes the password of the login's account: a PATCH of the ManagerAccount (DSP0266,
// 13.3.7; DSP8010), against the state that was just read.
func (t *session) SetPassword(ctx context.Context, fresh string) error {
	r, err := t.root(ctx)
	if err != nil {
		return err
	}
	if r.Accounts.ID == "" {
		return device.ErrUnsupported
	}
	return t.inside(ctx, func() error {
		var service struct {
			Accounts ref `json:"Accounts"`
		}
		var list collection
		if err := t.optional(ctx, r.Accounts, &service); err != nil {
			return err
		}
		if err := t.optional(ctx, service.Accounts, &list); err != nil {
			return err
		}
		_, at, err := t.ownAccount(ctx, list)
		if err != nil {
			return err
		}
		a, err := t.ask(ctx, http.MethodGet, at.ID, nil, nil)
		if err != nil {
			return err
		}
		header := http.Header{}
		if tag := a.Header.Get("ETag"); tag != "" {
			header.Set("If-Match", tag)
		}
		_, err = t.ask(ctx, http.MethodPatch, at.ID, header, map[string]string{"Password": fresh})
		return err
	})
}
