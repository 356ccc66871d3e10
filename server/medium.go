package server

import (
	"archive/zip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"verimorph/api/gen"
	"verimorph/core/media"
	"verimorph/core/path"
	"verimorph/store"
)

// GetMedium packs a hand-carried medium for a change: the images of all its hops, their hashes, a manifest and a sheet of
// instructions.
func (s *Server) GetMedium(ctx context.Context, r gen.GetMediumRequestObject) (gen.GetMediumResponseObject, error) {
	c, err := s.Planner.Change(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	var p path.Path
	if err := json.Unmarshal(c.Path, &p); err != nil {
		return nil, err
	}
	files, err := filesOf(&c)
	if err != nil {
		return nil, err
	}
	m := media.Manifest{Format: media.Format, Change: c.ID, Device: c.Devices(), Model: p.Model, From: c.From, To: c.To, MadeAt: time.Now().UTC().Format(time.RFC3339), Files: files}
	if problems := media.Fits(m.Files); len(problems) > 0 {
		return nil, conflict("the files do not fit a FAT32 medium: %s", strings.Join(problems, "; "))
	}
	for _, f := range m.Files { // checked again before use: a damaged file is never given out
		if !s.Blobs.Has(f.SHA256) {
			return nil, conflict("the image store lacks %s; add it, or wait until it is fetched", f.Name)
		}
		if err := s.Blobs.Verify(f.SHA256); err != nil {
			return nil, conflict("image %s: %s; add or fetch it first", f.Name, err)
		}
	}
	body, size, err := packed(&m, func(w io.Writer) error {
		return sheet.Execute(w, struct {
			*media.Manifest
			Hops []path.Hop
		}{&m, p.Hops})
	}, s.stored)
	return gen.GetMedium200ApplicationzipResponse{Body: body, ContentLength: size}, err
}

// stored opens a file of the image store.
func (s *Server) stored(f media.File) (io.ReadCloser, error) {
	name, err := s.Blobs.Path(f.SHA256)
	if err != nil {
		return nil, err
	}
	return os.Open(name)
}

// packed is a medium as a zip archive, and how long that is. The length is told beforehand, so that nobody takes a broken answer for a whole archive. It depends on
// the sizes of the files only.
func packed(m *media.Manifest, sheet func(io.Writer) error, open func(media.File) (io.ReadCloser, error)) (io.Reader, int64, error) {
	var size counter
	if err := packMedium(&size, m, sheet, func(f media.File) (io.ReadCloser, error) {
		return io.NopCloser(io.LimitReader(zeros{}, f.Size)), nil
	}); err != nil {
		return nil, 0, err
	}
	body, w := io.Pipe()
	go func() { w.CloseWithError(packMedium(w, m, sheet, open)) }()
	return body, int64(size), nil
}

// filesOf are the files of all paths of a change, each once.
func filesOf(c *store.Change) (files []media.File, err error) {
	for _, data := range c.Paths() {
		var p path.Path
		if err := json.Unmarshal(data, &p); err != nil {
			return nil, err
		}
		for _, f := range mediumFiles(&p) {
			if !slices.ContainsFunc(files, func(o media.File) bool { return o.SHA256 == f.SHA256 }) {
				files = append(files, f)
			}
		}
	}
	return files, nil
}

// mediumFiles lists the files of a path's hops, each once, with the first hop that needs it.
func mediumFiles(p *path.Path) (files []media.File) {
	seen := map[string]bool{}
	add := func(f media.File) {
		if !seen[f.SHA256] {
			seen[f.SHA256] = true
			files = append(files, f)
		}
	}
	for i := range p.Hops {
		h := &p.Hops[i]
		add(media.File{Name: h.Image.File, Size: h.Image.Size, SHA256: h.Image.SHA256, Version: h.To.String(), Role: "install", Hop: i + 1})
		for _, o := range h.Others {
			add(media.File{Name: o.File, Size: o.Size, SHA256: o.SHA256, Version: o.Version, Role: o.Role, Hop: i + 1})
		}
	}
	return files
}

type counter int64

func (c *counter) Write(p []byte) (int, error) {
	*c += counter(len(p))
	return len(p), nil
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) {
	clear(p)
	return len(p), nil
}

func packMedium(w io.Writer, m *media.Manifest, sheet func(io.Writer) error, open func(media.File) (io.ReadCloser, error)) error {
	z := zip.NewWriter(w)
	modified, err := time.Parse(time.RFC3339, m.MadeAt)
	if err != nil {
		return err
	}
	put := func(name string, write func(io.Writer) error) error {
		f, err := z.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Store, Modified: modified})
		if err != nil {
			return err
		}
		return write(f)
	}
	var sums []media.Sum
	for _, f := range m.Files {
		sums = append(sums, media.Sum{SHA256: f.SHA256, Name: f.Name})
		err := put(f.Name, func(w io.Writer) error {
			in, err := open(f)
			if err != nil {
				return err
			}
			defer in.Close()
			n, err := io.Copy(w, in)
			if err == nil && n != f.Size {
				err = fmt.Errorf("%s has %d bytes instead of %d", f.Name, n, f.Size)
			}
			return err
		})
		if err != nil {
			return err
		}
	}
	err = errors.Join(
		put(media.SumsFile, func(w io.Writer) error { return media.WriteSums(w, sums) }),
		put(media.ManifestFile, func(w io.Writer) error {
			e := json.NewEncoder(w)
			e.SetIndent("", "  ")
			return e.Encode(m)
		}),
		put(media.SheetFile, sheet))
	return errors.Join(err, z.Close())
}

var sheetFuncs = template.FuncMap{
	"mib":  func(n int64) string { return fmt.Sprintf("%.1f MiB", float64(n)/(1<<20)) },
	"inc":  func(i int) int { return i + 1 },
	"mins": func(s float64) string { return fmt.Sprintf("%.0f", s/60) },
	"half": func(s string) string { return s[:32] + " " + s[32:] },
}

const sheetStyle = `
<style>
@page { size: A4; margin: 14mm }
body { font: 10pt/1.35 "DejaVu Sans", Arial, sans-serif; max-width: 182mm; margin: 8mm auto; color: #111 }
h1 { font-size: 15pt; margin: 0 0 2mm } h2 { font-size: 11pt; margin: 4mm 0 1mm }
table { border-collapse: collapse; width: 100% } th, td { text-align: left; padding: 1mm 2mm; border-bottom: 0.3mm solid #999; vertical-align: top }
code { font: 7.5pt "DejaVu Sans Mono", monospace; white-space: nowrap } .box { display: inline-block; width: 3.5mm; height: 3.5mm; border: 0.4mm solid #111; vertical-align: -0.5mm }
</style>`

var sheet = template.Must(template.New("sheet").Funcs(sheetFuncs).Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><title>Change {{.Change}}: {{.Device}}</title>` + sheetStyle + `</head><body>
<h1>{{.Device}} ({{.Model}}): {{.From}} to {{.To}}</h1>
<p>Change {{.Change}}. Medium made {{.MadeAt}}. Do the hops in this order and none of them twice. Stop and call when anything differs from this sheet.</p>
<h2>Before you leave</h2>
<p><span class="box"></span> On the medium: <code>sha256sum -c SHA256SUMS</code> says OK for every file, or: <code>verimorph media check FOLDER</code>.</p>
<table><tr><th>File</th><th>Use</th><th>Size</th><th>SHA-256</th></tr>
{{range .Files}}<tr><td>{{.Name}}</td><td>{{if eq .Role "install"}}install, hop {{.Hop}}{{else}}{{.Role}} {{.Version}}, hop {{.Hop}}{{end}}</td><td>{{mib .Size}}</td><td><code>{{half .SHA256}}</code></td></tr>
{{end}}</table>
{{range $i, $h := .Hops}}<h2>Hop {{inc $i}}: {{$h.From}} to {{$h.To}}{{if $h.NewModel}} on {{$h.NewModel}}{{end}}</h2>
<p>Configuration {{$h.Config}}; {{$h.Restarts}} restart{{if ne $h.Restarts 1}}s{{end}}; {{mins $h.Low}} to {{mins $h.High}} minutes.</p>
{{range $h.Prerequisites}}{{if .ID}}<p><span class="box"></span> {{.Text}}{{if .Remedy}} (otherwise: {{.Remedy}}){{end}}</p>{{end}}{{end}}
{{range $h.HandSteps}}{{if eq .Due "before"}}<p><span class="box"></span> Before: {{.Text}}{{if .When}} (if {{.When}}){{end}}</p>{{end}}{{end}}
<p><span class="box"></span> Back up the configuration and take the copy with you. <span class="box"></span> Room for {{mib $h.Image.Size}}.</p>
{{range $h.Components}}{{if eq .Order "before"}}<p><span class="box"></span> First: {{.Title}} {{.To}} ({{.Trigger}})</p>{{end}}{{end}}
<p><span class="box"></span> Install {{$h.Image.File}}; the running version afterwards is {{$h.To}}.</p>
{{range $h.Components}}{{if eq .Order "after"}}<p><span class="box"></span> Then: {{.Title}} {{.To}} ({{.Trigger}})</p>{{end}}{{end}}
{{range $h.HandSteps}}{{if eq .Due "after"}}<p><span class="box"></span> Afterwards: {{.Text}}{{if .When}} (if {{.When}}){{end}}</p>{{end}}{{end}}
{{range $h.Notes}}<p>Note{{if .When}} (if {{.When}}){{end}}: {{.Text}}</p>{{end}}
{{end}}
<h2>Done</h2><p>Version shown: ______________ &nbsp; Services looked at: ______________ &nbsp; Name, time: ____________________</p>
</body></html>
`))
