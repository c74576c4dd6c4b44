package redfish

import (
	"context"
	"errors"
	"slices"

	"catena/internal/device"
	"catena/internal/dialect"
)

// mayUpdate is the privilege that the update service requires for its actions (DSP8013).
const mayUpdate = "ConfigureComponents"

// maxAccounts is how many accounts are read in search of the own one.
const maxAccounts = 32

// Permission reads the role of the login's account and the privileges of that role (DSP0266, 13.2;
// ManagerAccount and Role in DSP8010). A service that shows neither does not tell.
func (t *session) Permission(ctx context.Context) error {
	r, err := t.root(ctx)
	if err != nil {
		return err
	}
	if r.Accounts.ID == "" {
		return device.ErrUnsupported
	}
	return t.inside(ctx, func() error { return t.privileged(ctx, r.Accounts) })
}

func (t *session) privileged(ctx context.Context, at ref) error {
	var service struct {
		Accounts ref `json:"Accounts"`
		Roles    ref `json:"Roles"`
	}
	var list collection
	if err := t.optional(ctx, at, &service); err != nil {
		return err
	}
	if err := t.optional(ctx, service.Accounts, &list); err != nil {
		return err
	}
	account, _, err := t.ownAccount(ctx, list)
	if err != nil {
		return err
	}
	return t.roleOf(ctx, account.Links.Role, account.RoleID)
}

// account is a ManagerAccount, as far as it is used.
type account struct {
	UserName string `json:"UserName"`
	RoleID   string `json:"RoleId"`
	Links    struct {
		Role ref `json:"Role"`
	} `json:"Links"`
}

// ownAccount finds the account of the login, and where it is. device.ErrUnsupported: the service
// does not show it.
func (t *session) ownAccount(ctx context.Context, list collection) (account, ref, error) {
	for _, m := range list.Members[:min(len(list.Members), maxAccounts)] {
		var a account
		switch err := t.optional(ctx, m, &a); {
		case errors.Is(err, device.ErrUnsupported):
			continue // it may see its own account alone
		case err != nil:
			return a, m, err
		case a.UserName == t.as.User:
			return a, m, nil
		}
	}
	return account{}, ref{}, device.ErrUnsupported
}

// roleOf reads the privileges of a role.
func (t *session) roleOf(ctx context.Context, at ref, id string) error {
	var role struct {
		Privileges []string `json:"AssignedPrivileges"`
	}
	if err := t.optional(ctx, at, &role); err != nil {
		return err
	}
	switch {
	case len(role.Privileges) == 0:
		return device.ErrUnsupported
	case slices.Contains(role.Privileges, mayUpdate):
		return nil
	}
	return &dialect.NotPermittedError{Why: "the role " + id + " lacks the privilege " + mayUpdate}
}

// optional reads a resource that a service may lack, or not show to this login: then its error is
// device.ErrUnsupported.
func (t *session) optional(ctx context.Context, at ref, into any) error {
	if at.ID == "" {
		return device.ErrUnsupported
	}
	err := t.get(ctx, at.ID, into)
	if errors.Is(err, device.ErrNoRight) || errors.Is(err, device.ErrRefused) {
		return device.ErrUnsupported
	}
	return err
}
