package server

import (
	"context"

	"verimorph/api/gen"
	"verimorph/licensing"
	"verimorph/store"
)

// The service that licences are taken from.

// GetLicenceService answers where it is.
func (s *Server) GetLicenceService(ctx context.Context, _ gen.GetLicenceServiceRequestObject) (gen.GetLicenceServiceResponseObject, error) {
	var set licensing.Setting
	_, err := s.Store.Setting(ctx, licensing.SettingName, &set)
	return gen.GetLicenceService200JSONResponse{Url: set.URL, User: set.User}, err
}

// PutLicenceService says where it is.
func (s *Server) PutLicenceService(ctx context.Context, r gen.PutLicenceServiceRequestObject) (gen.PutLicenceServiceResponseObject, error) {
	b := r.Body
	if !goodURL(b.Url) {
		return nil, badRequest("url %q should look like https://licences.example, without a name or password in it", b.Url)
	}
	if b.User == "" || b.Password == "" {
		return nil, badRequest("user and password are needed")
	}
	sealed, err := s.Vault.Seal(licensing.Label(), []byte(b.Password))
	if err != nil {
		return nil, err
	}
	err = s.audited(ctx, "licence service set", "", b.Url, func(tx *store.Store) error {
		return tx.PutSetting(ctx, licensing.SettingName, licensing.Setting{URL: b.Url, User: b.User, Sealed: sealed})
	})
	return gen.PutLicenceService200JSONResponse{Url: b.Url, User: b.User}, err
}
