package server

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"

	"filippo.io/age"

	"verimorph/api/gen"
	"verimorph/core/backup"
)

// Bundles that leave the service, and those that come in.

// maxImport bounds a bundle that is taken over, in bytes.
const maxImport = 512 << 20

// ExportBackup answers with a bundle: masked texts, or everything encrypted.
func (s *Server) ExportBackup(ctx context.Context, r gen.ExportBackupRequestObject) (gen.ExportBackupResponseObject, error) {
	b, m, err := s.Planner.Manifest(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	if r.Params.Form == gen.Masked {
		kept := *m
		kept.Parts = nil
		texts := map[string][]byte{}
		for i := range m.Parts {
			p := m.Parts[i]
			text, err := s.masked(ctx, b, &p)
			if err != nil {
				kept.Lacks = append(kept.Lacks, backup.Lack{Name: p.Name, Title: p.Title, Kind: p.Kind, Why: "not exported in the open", Needed: true})
				continue
			}
			p.SHA256, p.Size, p.Proof = sum([]byte(text)), int64(len(text)), p.Proof+"; secrets masked for export"
			texts[p.Name] = []byte(text)
			kept.Parts = append(kept.Parts, p)
		}
		if err := backup.WriteArchive(&out, &kept, func(p *backup.Part) ([]byte, error) { return texts[p.Name], nil }); err != nil {
			return nil, err
		}
	} else {
		recipients, err := s.Vault.Recipients()
		if err != nil {
			return nil, err
		}
		for _, text := range value(r.Params.Recipient) {
			one, err := age.ParseX25519Recipient(text)
			if err != nil {
				return nil, badRequest("%q is no age recipient (age1...)", text)
			}
			recipients = append(recipients, one)
		}
		w, err := age.Encrypt(&out, recipients...)
		if err != nil {
			return nil, err
		}
		err = backup.WriteArchive(w, m, func(p *backup.Part) ([]byte, error) { return s.Backups.Read(p.SHA256) })
		if err = errors.Join(err, w.Close()); err != nil {
			return nil, err
		}
	}
	if err := s.Store.Audit(ctx, actor(ctx), "backup exported", b.Device, fmt.Sprintf("backup %d, %s", b.ID, r.Params.Form)); err != nil {
		return nil, err
	}
	return gen.ExportBackup200ApplicationoctetStreamResponse{Body: &out, ContentLength: int64(out.Len())}, nil
}

// ImportBackup takes a bundle over.
func (s *Server) ImportBackup(ctx context.Context, r gen.ImportBackupRequestObject) (gen.ImportBackupResponseObject, error) {
	data, err := io.ReadAll(r.Body)
	if err != nil {
		return nil, err
	}
	refuse := func(err error) error {
		return newProblem(http.StatusUnprocessableEntity, "bad-request", "The bundle is refused", "%s", err)
	}
	if bytes.HasPrefix(data, []byte("age-encryption.org/")) {
		identities, err := s.Vault.Identities()
		if err != nil {
			return nil, err
		}
		plain, err := age.Decrypt(bytes.NewReader(data), identities...)
		if err == nil {
			data, err = io.ReadAll(io.LimitReader(plain, maxImport))
		}
		if err != nil {
			return nil, refuse(errors.New("it is damaged, or not encrypted to this installation; export it again with this installation's recipient (verimorph key show)"))
		}
	}
	m, parts, err := backup.ReadArchive(bytes.NewReader(data), maxImport)
	if err != nil {
		return nil, refuse(err)
	}
	for _, p := range m.Parts {
		if strings.Contains(p.Proof, "secrets masked") {
			return nil, refuse(errors.New("its secrets are masked, so it could never be restored; export it as an encrypted archive"))
		}
	}
	name := value(r.Params.Device)
	if name == "" {
		name = m.Device
	}
	d, err := s.Planner.Device(ctx, name)
	if err != nil {
		return nil, err
	}
	b, err := s.Engine.Import(ctx, d, m, parts)
	if err != nil {
		return nil, err
	}
	if b, err = s.Planner.Backup(ctx, b.ID); err != nil {
		return nil, err
	}
	return gen.ImportBackup201JSONResponse(apiBackup(b)), nil
}
