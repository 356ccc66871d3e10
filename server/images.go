package server

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"net/url"
	"strings"

	"verimorph/api/gen"
	"verimorph/blob"
	"verimorph/core/catalog"
	"verimorph/core/path"
	"verimorph/core/portrait"
	"verimorph/imagestore"
	"verimorph/store"
)

// ListImages answers with a page of the image store.
func (s *Server) ListImages(ctx context.Context, r gen.ListImagesRequestObject) (gen.ListImagesResponseObject, error) {
	limit, _, err := page(r.Params.Limit, nil)
	if err != nil {
		return nil, err
	}
	images, err := s.Store.Images(ctx, value(r.Params.Cursor), limit+1)
	if err != nil {
		return nil, err
	}
	items, next, err := listed(images, limit, func(im store.Image) any { return im.File }, always(func(im store.Image) gen.Image { return apiImage(im, true) }))
	return gen.ListImages200JSONResponse{Items: items, Next: next}, err
}

func apiImage(im store.Image, already bool) gen.Image {
	out := gen.Image{Sha256: im.SHA256, File: im.File, Size: im.Size, Family: im.Family, Version: im.Version, Models: im.Models, Signed: im.Signed, Already: already, AddedBy: im.AddedBy, AddedAt: im.AddedAt}
	if im.Part != "" {
		out.Part = &im.Part
	}
	return out
}

// AddImage takes a firmware file in one piece.
func (s *Server) AddImage(ctx context.Context, r gen.AddImageRequestObject) (gen.AddImageResponseObject, error) {
	signature, err := base64.StdEncoding.DecodeString(value(r.Params.Signature))
	if err != nil {
		return nil, badRequest("signature is not base64: %s", err)
	}
	im, already, err := s.Images.Take(ctx, r.Body, maxImage, r.Params.File, signature, user(ctx))
	if err != nil {
		return nil, err
	}
	return gen.AddImage201JSONResponse(apiImage(im, already)), nil
}

// DeleteImage removes an image that nothing needs.
func (s *Server) DeleteImage(ctx context.Context, r gen.DeleteImageRequestObject) (gen.DeleteImageResponseObject, error) {
	fleet, err := s.fleet(ctx)
	if err != nil {
		return nil, err
	}
	err = s.Images.Delete(ctx, r.Sha256, fleet, actor(ctx))
	if errors.Is(err, store.ErrNotFound) || errors.Is(err, blob.ErrNotThere) {
		return nil, notFound("the image store has no %.16s...", r.Sha256)
	}
	return gen.DeleteImage204Response{}, err
}

// fleet is what every device is and runs, as its last portrait says.
func (s *Server) fleet(ctx context.Context) (out []imagestore.Running, err error) {
	for d, err := range s.Store.AllDevices(ctx) {
		if err != nil {
			return nil, err
		}
		var p portrait.Portrait
		if d.Portrait != nil {
			if err := json.Unmarshal(d.Portrait, &p); err != nil {
				return nil, err
			}
			out = append(out, imagestore.Running{Device: d.Name, Model: p.Model, Version: p.Version})
		}
	}
	return out, nil
}

// GetRetention says what may be deleted and which devices have no way back by reinstalling.
func (s *Server) GetRetention(ctx context.Context, _ gen.GetRetentionRequestObject) (gen.GetRetentionResponseObject, error) {
	fleet, err := s.fleet(ctx)
	if err != nil {
		return nil, err
	}
	images, back, err := s.Images.Retention(ctx, fleet)
	if err != nil {
		return nil, err
	}
	out := gen.GetRetention200JSONResponse{Images: []gen.Retained{}, Devices: []gen.NoWayBack{}}
	for _, im := range images {
		r := gen.Retained{Sha256: im.SHA256, File: im.File, Version: im.Version, Size: im.Size, Needed: im.Needed, Deletable: len(im.Needed) == 0}
		if r.Deletable {
			r.Needed = []string{}
			out.Freed += im.Size
		}
		out.Images = append(out.Images, r)
	}
	for _, b := range back {
		out.Devices = append(out.Devices, gen.NoWayBack{Device: b.Device, Version: b.Version, Text: b.Text})
	}
	return out, nil
}

// CheckImages reads every image through.
func (s *Server) CheckImages(ctx context.Context, _ gen.CheckImagesRequestObject) (gen.CheckImagesResponseObject, error) {
	n, damaged, err := s.Images.Check(ctx)
	if damaged == nil {
		damaged = []string{}
	}
	return gen.CheckImages200JSONResponse{Checked: n, Damaged: damaged}, err
}

func apiUpload(u store.Upload, offset int64) gen.Upload {
	return gen.Upload{Id: u.ID, File: u.File, Size: u.Size, Offset: offset, StartedBy: u.StartedBy, StartedAt: u.StartedAt}
}

// ListUploads lists uploads that are not complete.
func (s *Server) ListUploads(ctx context.Context, _ gen.ListUploadsRequestObject) (gen.ListUploadsResponseObject, error) {
	us, err := s.Store.Uploads(ctx)
	out := gen.ListUploads200JSONResponse{Items: []gen.Upload{}}
	for _, u := range us {
		out.Items = append(out.Items, apiUpload(u, s.Images.Offset(u)))
	}
	return out, err
}

// StartUpload begins an upload or finds where it stopped.
func (s *Server) StartUpload(ctx context.Context, r gen.StartUploadRequestObject) (gen.StartUploadResponseObject, error) {
	b := r.Body
	if b.Size < 1 || b.Size > maxImage {
		return nil, badRequest("size must be from 1 to %d bytes", int64(maxImage))
	}
	if b.File == "" || len(b.File) > 200 || strings.ContainsAny(b.File, "/\\\x00") {
		return nil, badRequest("file %q is not a plain file name", b.File)
	}
	u := store.Upload{File: b.File, Size: b.Size, StartedBy: user(ctx), Signature: []byte{}}
	if b.Signature != nil {
		u.Signature = *b.Signature
	}
	u, offset, err := s.Images.StartUpload(ctx, u)
	return gen.StartUpload200JSONResponse(apiUpload(u, offset)), err
}

// ContinueUpload takes a piece.
func (s *Server) ContinueUpload(ctx context.Context, r gen.ContinueUploadRequestObject) (gen.ContinueUploadResponseObject, error) {
	u, at, im, already, err := s.Images.ContinueUpload(ctx, r.Id, r.Params.Offset, r.Body)
	if err != nil {
		return nil, uploadProblem(r.Id, err)
	}
	out := apiUpload(u, at)
	if im != nil {
		out.Image = ptr(apiImage(*im, already))
	}
	return gen.ContinueUpload200JSONResponse(out), nil
}

func uploadProblem(id int64, err error) error {
	if errors.Is(err, store.ErrNotFound) {
		return notFound("there is no upload %d; begin it again", id)
	}
	return err
}

// DropUpload forgets an upload.
func (s *Server) DropUpload(ctx context.Context, r gen.DropUploadRequestObject) (gen.DropUploadResponseObject, error) {
	return gen.DropUpload204Response{}, uploadProblem(r.Id, s.Images.DropUpload(ctx, r.Id))
}

func apiSite(site store.Site) gen.Site {
	out := gen.Site{Name: site.Name, Url: site.URL, User: site.Username, Maker: site.Maker}
	if site.ContractEnds != "" {
		out.ContractEnds = &site.ContractEnds
	}
	if site.Trouble != "" {
		out.Trouble = &site.Trouble
	}
	return out
}

// ListSites lists the release sites.
func (s *Server) ListSites(ctx context.Context, _ gen.ListSitesRequestObject) (gen.ListSitesResponseObject, error) {
	sites, err := s.Store.Sites(ctx)
	out := gen.ListSites200JSONResponse{Items: []gen.Site{}}
	for _, site := range sites {
		out.Items = append(out.Items, apiSite(site))
	}
	return out, err
}

// SetSite adds or changes a release site.
func (s *Server) SetSite(ctx context.Context, r gen.SetSiteRequestObject) (gen.SetSiteResponseObject, error) {
	b := r.Body
	if !goodURL(b.Url) {
		return nil, badRequest("url %q should look like https://releases.example, without a name or password in it", b.Url)
	}
	if b.User == "" || b.Password == "" {
		return nil, badRequest("user and password are needed")
	}
	sealed, err := s.Vault.Seal(imagestore.SitePasswordLabel(r.Name), []byte(b.Password))
	if err != nil {
		return nil, err
	}
	site := store.Site{Name: r.Name, URL: b.Url, Username: b.User, Password: sealed, Maker: value(b.Maker)}
	if err := s.audited(ctx, "release site set", "", r.Name+", "+b.Url, func(tx *store.Store) error { return tx.PutSite(ctx, site) }); err != nil {
		return nil, err
	}
	site, err = s.Store.Site(ctx, r.Name)
	return gen.SetSite200JSONResponse(apiSite(site)), err
}

// goodURL reports whether a text is a URL of the web without a name or password in it.
func goodURL(text string) bool {
	u, err := url.Parse(text)
	return err == nil && (u.Scheme == "http" || u.Scheme == "https") && u.Host != "" && u.User == nil
}

func siteProblem(name string, err error) error {
	if errors.Is(err, store.ErrNotFound) {
		return notFound("there is no release site %q", name)
	}
	return err
}

// DeleteSite forgets a release site.
func (s *Server) DeleteSite(ctx context.Context, r gen.DeleteSiteRequestObject) (gen.DeleteSiteResponseObject, error) {
	return gen.DeleteSite204Response{}, siteProblem(r.Name, s.audited(ctx, "release site deleted", "", r.Name, func(tx *store.Store) error { return tx.DeleteSite(ctx, r.Name) }))
}

// ListSiteFiles asks a release site what it offers.
func (s *Server) ListSiteFiles(ctx context.Context, r gen.ListSiteFilesRequestObject) (gen.ListSiteFilesResponseObject, error) {
	site, err := s.Images.Open(ctx, r.Name)
	if err != nil {
		return nil, siteProblem(r.Name, err)
	}
	files, err := site.Files(ctx)
	if err != nil {
		return nil, err
	}
	sums, err := site.Sums(ctx)
	if err != nil {
		return nil, err
	}
	cat, _, err := s.Planner.Catalogue(ctx)
	if err != nil {
		return nil, err
	}
	known, byFile := map[string]bool{}, map[string]string{}
	for _, l := range cat.Images() {
		known[l.SHA256], byFile[l.File] = true, l.SHA256
	}
	out := gen.ListSiteFiles200JSONResponse{Items: []gen.SiteFile{}}
	for _, f := range files {
		sum := sums[f.File]
		item := gen.SiteFile{File: f.File, Size: f.Size, Sha256: sum, Signed: f.Signed, Known: known[sum], There: s.Blobs.Has(sum)}
		switch want, ok := byFile[f.File]; {
		case sum == "":
			item.Text = "the site's hash list does not name it"
		case ok && want != sum:
			item.Text = "another file than the catalogue describes: the hashes differ"
		case !known[sum]:
			item.Text = "the catalogue does not know it"
		}
		out.Items = append(out.Items, item)
	}
	return out, nil
}

func apiFetch(f store.Fetch) gen.Fetch {
	out := gen.Fetch{Id: f.ID, File: f.File, Site: f.Site, Sha256: f.SHA256, Size: f.Size, Done: f.Done, State: gen.FetchState(f.State), Attempts: f.Attempts, Note: f.Note,
		StartedBy: f.StartedBy, StartedAt: f.StartedAt, EndedAt: f.EndedAt}
	if f.State == store.FetchRunning && f.Rate > 0 {
		out.SecondsLeft = ptr(float64(f.Size-f.Done) / f.Rate)
	}
	return out
}

func apiFetches(fs []store.Fetch) []gen.Fetch {
	out := []gen.Fetch{}
	for _, f := range fs {
		out = append(out, apiFetch(f))
	}
	return out
}

// ListFetches lists downloads, newest first.
func (s *Server) ListFetches(ctx context.Context, _ gen.ListFetchesRequestObject) (gen.ListFetchesResponseObject, error) {
	fs, err := s.Store.Fetches(ctx, 100)
	return gen.ListFetches200JSONResponse{Items: apiFetches(fs)}, err
}

// StartFetches begins downloads.
func (s *Server) StartFetches(ctx context.Context, r gen.StartFetchesRequestObject) (gen.StartFetchesResponseObject, error) {
	cat, _, err := s.Planner.Catalogue(ctx)
	if err != nil {
		return nil, err
	}
	want := map[string]bool{} // by hash
	if r.Body.Change != nil {
		c, err := s.Store.Change(ctx, *r.Body.Change)
		if errors.Is(err, store.ErrNotFound) {
			return nil, notFound("there is no change %d", *r.Body.Change)
		}
		if err != nil {
			return nil, err
		}
		for _, data := range c.Paths() {
			var p path.Path
			if err := json.Unmarshal(data, &p); err != nil {
				return nil, err
			}
			for _, sum := range imagestore.Sums(&p) {
				want[sum] = true
			}
		}
	}
	names := map[string]bool{}
	for _, name := range value(r.Body.Files) {
		names[name] = true
	}
	var images []catalog.Listed
	for _, l := range cat.Images() {
		if want[l.SHA256] || names[l.File] {
			delete(names, l.File)
			images = append(images, l)
		}
	}
	for name := range names {
		return nil, notFound("the catalogue knows no image file %q", name)
	}
	if len(images) == 0 {
		return nil, badRequest("name files or a change")
	}
	fs, nowhere, err := s.Images.Want(ctx, images, value(r.Body.Site), user(ctx))
	if err != nil {
		return nil, err
	}
	if len(nowhere) > 0 {
		return nil, conflict("no release site is known for %s; add one with: verimorph site set", strings.Join(nowhere, ", "))
	}
	return gen.StartFetches200JSONResponse{Items: apiFetches(fs)}, s.Planner.HandOut(ctx, fs)
}

// ActOnFetch holds, resumes or stops a download.
func (s *Server) ActOnFetch(ctx context.Context, r gen.ActOnFetchRequestObject) (gen.ActOnFetchResponseObject, error) {
	f, err := s.Images.Act(ctx, r.Id, string(r.Action), actor(ctx))
	if errors.Is(err, store.ErrNotFound) {
		return nil, notFound("there is no download %d", r.Id)
	}
	if err != nil {
		return nil, err
	}
	return gen.ActOnFetch200JSONResponse(apiFetch(f)), s.Planner.HandOut(ctx, []store.Fetch{f})
}
