package server

import (
	"context"
	"errors"
	"io"
	"strings"
	"time"

	"verimorph/api/gen"
	"verimorph/bootstrap"
	"verimorph/core/onboarding"
	"verimorph/store"
)

// Devices that ask by themselves what they are to become (RFC 8572).

// mostVoucher bounds an ownership voucher, in bytes.
const mostVoucher = 1 << 20

// GetBootstrap answers with how it stands.
func (s *Server) GetBootstrap(ctx context.Context, _ gen.GetBootstrapRequestObject) (gen.GetBootstrapResponseObject, error) {
	out, err := s.bootstrap(ctx)
	return gen.GetBootstrap200JSONResponse(out), err
}

func (s *Server) bootstrap(ctx context.Context) (out gen.Bootstrap, err error) {
	owner, err := bootstrap.Owner(ctx, s.Store, s.Vault)
	if err != nil {
		return out, err
	}
	text, err := onboarding.PEM(owner.Certificate, nil)
	if err != nil {
		return out, err
	}
	out = gen.Bootstrap{Owner: string(text), Makers: []string{}, Calls: []gen.Call{}}
	makers, err := bootstrap.Makers(ctx, s.Store)
	if err != nil {
		return out, err
	}
	if certs, _, err := onboarding.ReadPEM([]byte(makers)); err == nil {
		for _, c := range certs {
			out.Makers = append(out.Makers, c.Subject.CommonName)
		}
	}
	calls, err := s.Store.Calls(ctx)
	if err != nil {
		return out, err
	}
	for _, c := range calls {
		call := gen.Call{Serial: c.Serial, Device: c.Device, Change: c.ChangeID, State: string(c.State), CalledAt: c.CalledAt, CompleteAt: c.CompleteAt, Reports: []string{}}
		if _, err := s.Store.Voucher(ctx, c.Serial); err == nil {
			call.Voucher = ptr(true)
		} else if !errors.Is(err, store.ErrNotFound) {
			return out, err
		}
		for _, r := range c.Reports {
			call.Reports = append(call.Reports, strings.TrimSuffix(r.Type+": "+r.Message, ": "))
		}
		out.Calls = append(out.Calls, call)
	}
	return out, nil
}

// PutBootstrapMakers sets whose devices may call.
func (s *Server) PutBootstrapMakers(ctx context.Context, r gen.PutBootstrapMakersRequestObject) (gen.PutBootstrapMakersResponseObject, error) {
	if r.Body == nil {
		return nil, badRequest("the certificates are missing")
	}
	if _, _, err := onboarding.ReadPEM([]byte(*r.Body)); err != nil {
		return nil, badRequest("%s", err)
	}
	if err := bootstrap.PutMakers(ctx, actor(ctx), s.Store, *r.Body); err != nil {
		return nil, err
	}
	out, err := s.bootstrap(ctx)
	return gen.PutBootstrapMakers200JSONResponse(out), err
}

// AddVoucher keeps an ownership voucher. It has to pin our own domain: with another one the device would take nothing from us.
func (s *Server) AddVoucher(ctx context.Context, r gen.AddVoucherRequestObject) (gen.AddVoucherResponseObject, error) {
	data, err := io.ReadAll(io.LimitReader(r.Body, mostVoucher+1))
	if err != nil || len(data) > mostVoucher {
		return nil, badRequest("a voucher has at most %d bytes", mostVoucher)
	}
	v, err := onboarding.ReadVoucher(data)
	if err != nil {
		return nil, badRequest("%s", err)
	}
	owner, err := bootstrap.Owner(ctx, s.Store, s.Vault)
	if err != nil {
		return nil, err
	}
	if !v.Pinned.Equal(owner.Certificate) {
		return nil, badRequest("the voucher for %s was made for another owner, %q; ask its maker for one with what verimorph bootstrap owner prints", v.Serial, v.Pinned.Subject.CommonName)
	}
	if v.Over(time.Now()) {
		return nil, badRequest("the voucher for %s counted until %s; ask its maker for another", v.Serial, v.Expires.UTC().Format(time.RFC3339))
	}
	err = s.audited(ctx, "voucher added", "", v.Serial, func(tx *store.Store) error {
		return tx.PutVoucher(ctx, store.Voucher{Serial: v.Serial, Voucher: data, AddedBy: user(ctx)})
	})
	return gen.AddVoucher200JSONResponse{Serial: v.Serial}, err
}
