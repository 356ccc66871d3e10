package server

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
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
		recipients, err := s.recipients(value(r.Params.Recipient), r.Params.ArchivePassword)
		if err != nil {
			return nil, err
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

// recipients are those that an archive is encrypted to: those of the installation and more, or whoever knows a password. age takes a password alone.
func (s *Server) recipients(more []string, password *string) ([]age.Recipient, error) {
	if password != nil {
		text, err := archivePassword(password)
		if err != nil {
			return nil, err
		}
		if len(more) > 0 {
			return nil, badRequest("an archive is encrypted with a password or to recipients, not both")
		}
		one, err := age.NewScryptRecipient(text)
		return []age.Recipient{one}, err
	}
	recipients, err := s.Vault.Recipients()
	if err != nil {
		return nil, err
	}
	for _, text := range more {
		one, err := age.ParseX25519Recipient(text)
		if err != nil {
			return nil, badRequest("%q is no age recipient (age1...)", text)
		}
		recipients = append(recipients, one)
	}
	return recipients, nil
}

// leastPassword is how long the password of an archive is at least: whoever has the file may try as many as he likes.
const leastPassword = 8

func archivePassword(header *string) (string, error) {
	text, err := url.PathUnescape(value(header))
	if err != nil || len(text) < leastPassword {
		return "", badRequest("the password of an archive has %d characters at least, percent-encoded in its header", leastPassword)
	}
	return text, nil
}

// opened decrypts an archive: with the keys of the installation, or with a password.
func (s *Server) opened(data []byte, password *string) ([]byte, error) {
	byPassword := bytes.Contains(data[:min(len(data), 512)], []byte("\n-> scrypt "))
	identities, err := s.Vault.Identities()
	why := "it is damaged, or not encrypted to this installation; export it again with this installation's recipient (verimorph key show)"
	switch {
	case byPassword && password == nil:
		return nil, errors.New("it is encrypted with a password; say it (-password)")
	case byPassword:
		why = "the password is wrong, or the archive is damaged"
		text, bad := url.PathUnescape(*password)
		if bad != nil {
			return nil, errors.New(why)
		}
		one, bad := age.NewScryptIdentity(text)
		if bad != nil {
			return nil, errors.New(why)
		}
		identities = []age.Identity{one}
	case err != nil:
		return nil, err
	}
	plain, err := age.Decrypt(bytes.NewReader(data), identities...)
	if err == nil {
		data, err = io.ReadAll(io.LimitReader(plain, maxImport))
	}
	if err != nil {
		return nil, errors.New(why)
	}
	return data, nil
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
		if data, err = s.opened(data, r.Params.ArchivePassword); err != nil {
			return nil, refuse(err)
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
