package server

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"html/template"
	"io"
	"time"

	"filippo.io/age"

	"verimorph/api/gen"
	"verimorph/core/backup"
	"verimorph/core/media"
	"verimorph/planning"
)

// Media that are kept somewhere to bring a device back.

// ListMedia answers with the media.
func (s *Server) ListMedia(ctx context.Context, r gen.ListMediaRequestObject) (gen.ListMediaResponseObject, error) {
	all, err := s.Planner.Media(ctx, value(r.Params.All))
	if err != nil {
		return nil, err
	}
	out := gen.ListMedia200JSONResponse{Items: []gen.Medium{}}
	for i := range all {
		x, err := apiMedium(&all[i])
		if err != nil {
			return nil, err
		}
		out.Items = append(out.Items, x)
	}
	return out, nil
}

func apiMedium(m *planning.KeptMedium) (gen.Medium, error) {
	out := gen.Medium{Label: m.Label, Kind: gen.MediumKind(m.Kind), Device: m.Device, Site: m.Site, Place: m.Place,
		Model: m.Model, Version: m.Version, Backup: m.Backup, Change: m.ChangeID, State: gen.MediumState(m.State),
		Problems: append([]string{}, m.Problems...), Older: append([]string{}, m.Older...),
		WrittenAt: m.WrittenAt, CheckedAt: m.CheckedAt, RetiredAt: m.RetiredAt, Retired: optional(m.Retired), CreatedAt: m.CreatedAt, CreatedBy: m.CreatedBy}
	return out, same(append([]media.File{}, m.Files...), &out.Files)
}

func (s *Server) medium(ctx context.Context, label string) (gen.Medium, error) {
	m, err := s.Planner.Medium(ctx, label)
	if err != nil {
		return gen.Medium{}, err
	}
	return apiMedium(&m)
}

// MakeMedium drafts or records it.
func (s *Server) MakeMedium(ctx context.Context, r gen.MakeMediumRequestObject) (gen.MakeMediumResponseObject, error) {
	b := r.Body
	if _, err := s.onceNumbered(ctx, r.Params.IdempotencyKey, b, func() (int64, error) {
		return s.Planner.MakeMedium(ctx, actor(ctx),
			planning.NewMedium{Label: b.Label, Kind: string(b.Kind), Device: b.Device, Place: value(b.Place), Terms: termsOf(b.Terms)})
	}); err != nil {
		return nil, err
	}
	out, err := s.medium(ctx, b.Label)
	return gen.MakeMedium201JSONResponse(out), err
}

// CoverMedia says which medium would bring each device back.
func (s *Server) CoverMedia(ctx context.Context, _ gen.CoverMediaRequestObject) (gen.CoverMediaResponseObject, error) {
	all, err := s.Planner.MediaCovers(ctx)
	if err != nil {
		return nil, err
	}
	out := gen.CoverMedia200JSONResponse{Items: []gen.MediumCover{}}
	for _, c := range all {
		out.Items = append(out.Items, gen.MediumCover{Device: c.Device, Site: c.Site, Model: c.Model,
			State: gen.MediumCoverState(c.State), Label: optional(c.Label), Why: c.Why})
	}
	return out, nil
}

// PackMedium gives out what goes onto a medium: images, and the newest backup, encrypted.
func (s *Server) PackMedium(ctx context.Context, r gen.PackMediumRequestObject) (gen.PackMediumResponseObject, error) {
	x, err := s.Planner.RecoveryOf(ctx, actor(ctx), r.Label)
	if err != nil {
		return nil, err
	}
	recipients, err := s.recipients(nil, r.Params.ArchivePassword)
	if err != nil {
		return nil, err
	}
	var archive bytes.Buffer
	w, err := age.Encrypt(&archive, recipients...)
	if err != nil {
		return nil, err
	}
	err = backup.WriteArchive(w, x.Manifest, func(p *backup.Part) ([]byte, error) { return s.Backups.Read(p.SHA256) })
	if err = errors.Join(err, w.Close()); err != nil {
		return nil, err
	}
	saved := media.File{Name: fmt.Sprintf("%s-backup-%d.age", x.Medium.Device, x.Backup.ID), Size: int64(archive.Len()),
		SHA256: fmt.Sprintf("%x", sha256.Sum256(archive.Bytes())), Version: x.Backup.Version, Role: "configuration", Hop: 1}
	m := media.Manifest{Format: media.Format, Device: x.Medium.Device, Model: x.Backup.Model, From: x.Backup.Version, To: x.Backup.Version,
		MadeAt: time.Now().UTC().Format(time.RFC3339), Files: append(x.Files, saved), Label: x.Medium.Label, Backup: x.Backup.ID}
	if problems := media.Fits(m.Files); len(problems) > 0 {
		return nil, conflict("the files do not fit a FAT32 medium: %s", problems[0])
	}
	body, size, err := packed(&m, func(w io.Writer) error {
		return recoverySheet.Execute(w, struct {
			*media.Manifest
			TakenAt  string
			Password bool
		}{&m, x.Backup.TakenAt.UTC().Format("2006-01-02 15:04 MST"), r.Params.ArchivePassword != nil})
	}, func(f media.File) (io.ReadCloser, error) {
		if f.SHA256 == saved.SHA256 {
			return io.NopCloser(bytes.NewReader(archive.Bytes())), nil
		}
		return s.stored(f)
	})
	if err != nil {
		return nil, err
	}
	if err := s.Planner.PackedMedium(ctx, actor(ctx), x, m.Files); err != nil {
		return nil, err
	}
	return gen.PackMedium200ApplicationzipResponse{Body: body, ContentLength: size}, nil
}

// CheckMedium holds what was found on a medium against what was written onto it.
func (s *Server) CheckMedium(ctx context.Context, r gen.CheckMediumRequestObject) (gen.CheckMediumResponseObject, error) {
	var found []media.Found
	for _, f := range r.Body.Files {
		found = append(found, media.Found{Name: f.Name, Size: f.Size, SHA256: f.Sha256})
	}
	if err := s.Planner.CheckMedium(ctx, actor(ctx), r.Label, found, value(r.Body.Place)); err != nil {
		return nil, err
	}
	out, err := s.medium(ctx, r.Label)
	return gen.CheckMedium200JSONResponse(out), err
}

// PlaceMedium records where a medium lies.
func (s *Server) PlaceMedium(ctx context.Context, r gen.PlaceMediumRequestObject) (gen.PlaceMediumResponseObject, error) {
	if err := s.Planner.PlaceMedium(ctx, actor(ctx), r.Label, r.Body.Place); err != nil {
		return nil, err
	}
	out, err := s.medium(ctx, r.Label)
	return gen.PlaceMedium200JSONResponse(out), err
}

// RetireMedium takes a medium out of use.
func (s *Server) RetireMedium(ctx context.Context, r gen.RetireMediumRequestObject) (gen.RetireMediumResponseObject, error) {
	return gen.RetireMedium204Response{}, s.Planner.RetireMedium(ctx, actor(ctx), r.Label, r.Body.Reason)
}

var recoverySheet = template.Must(template.New("recovery").Funcs(sheetFuncs).Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><title>{{.Label}}: {{.Device}}</title>` + sheetStyle + `</head><body>
<h1>{{.Label}}: {{.Device}} ({{.Model}}) on {{.To}}</h1>
<p>This medium brings the device back: release {{.To}}, and its configuration of {{.TakenAt}} (backup {{.Backup}}).
Medium made {{.MadeAt}}. Keep it as a key is kept.</p>
<table><tr><th>File</th><th>Use</th><th>Size</th><th>SHA-256</th></tr>
{{range .Files}}<tr><td>{{.Name}}</td><td>{{if eq .Role "install"}}the release{{else}}{{.Role}}{{end}} {{.Version}}</td>
<td>{{mib .Size}}</td><td><code>{{half .SHA256}}</code></td></tr>
{{end}}</table>
<h2>Before it is used</h2>
<p><span class="box"></span> <code>sha256sum -c SHA256SUMS</code> says OK for every file, or: <code>verimorph media check FOLDER</code>.</p>
<h2>Bring the device back</h2>
<p><span class="box"></span> Install the release on the device, by its console line or as its maker says for a device without one.</p>
<p><span class="box"></span> Decrypt the backup on a computer: <code>age -d{{if not .Password}} -i KEY{{end}} FILE | tar x</code>,
{{if .Password}}with the password that was chosen when the medium was made{{else}}with the key of the service{{end}}. It holds
passwords: do that where nobody else reads it, and remove it afterwards.</p>
<p><span class="box"></span> Put the configuration onto the device. Where the service can be reached: <code>verimorph backup restore {{.Backup}}</code>.</p>
<h2>Done</h2><p>Version shown: ______________ &nbsp; Services looked at: ______________ &nbsp; Name, time: ____________________</p>
</body></html>
`))
