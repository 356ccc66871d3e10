package imagestore

import (
	"context"
	"encoding/json"
	"fmt"

	"verimorph/access"
	"verimorph/core/path"
	"verimorph/store"
)

// A Retained image with what needs it; one that nothing needs may be deleted.
type Retained struct {
	store.Image
	Needed []string
}

// NoWayBack is a device whose own release is not in the store.
type NoWayBack struct{ Device, Version, Text string }

// A Running device: what it is and runs, as its portrait says.
type Running struct{ Device, Model, Version string }

// Retention says of every image what needs it, and which devices could not be given back what they run now.
func (k *Images) Retention(ctx context.Context, fleet []Running) (images []Retained, back []NoWayBack, err error) {
	cat, err := k.Catalogue(ctx)
	if err != nil {
		return nil, nil, err
	}
	needed := map[string][]string{}
	open, err := k.Store.OpenPaths(ctx)
	if err != nil {
		return nil, nil, err
	}
	for _, o := range open {
		var p path.Path
		if err := json.Unmarshal(o.Path, &p); err != nil {
			return nil, nil, err
		}
		for _, sum := range Sums(&p) {
			needed[sum] = append(needed[sum], fmt.Sprintf("change %d of %s", o.Change, o.Device))
		}
	}
	for _, d := range fleet {
		f := cat.FamilyOfModel(d.Model)
		if f == nil {
			continue
		}
		text := fmt.Sprintf("%s is not in the catalogue, so going back to it by reinstalling is not possible", d.Version)
		if i := f.Named(d.Version); i >= 0 {
			im := f.Releases[i].Image(d.Model)
			if im != nil && k.Blobs.Has(im.SHA256) {
				needed[im.SHA256] = append(needed[im.SHA256], d.Device+" runs it now")
				continue
			}
			text = fmt.Sprintf("%s has no image here, so going back to it by reinstalling is not possible", d.Version)
			if im != nil {
				text += "; add or fetch " + im.File
			}
		}
		back = append(back, NoWayBack{d.Device, d.Version, text})
	}
	after := ""
	for {
		page, err := k.Store.Images(ctx, after, 500)
		if err != nil || len(page) == 0 {
			return images, back, err
		}
		for _, im := range page {
			images = append(images, Retained{im, needed[im.SHA256]})
			after = im.File
		}
	}
}

// Sums lists the images that a path needs on the device, in the order of its hops.
func Sums(p *path.Path) (sums []string) {
	for i := range p.Hops {
		sums = append(sums, p.Hops[i].Image.SHA256)
		for _, o := range p.Hops[i].Others {
			sums = append(sums, o.SHA256)
		}
	}
	return sums
}

// Delete removes an image that nothing needs.
func (k *Images) Delete(ctx context.Context, sum string, fleet []Running, by access.Actor) error {
	images, _, err := k.Retention(ctx, fleet)
	if err != nil {
		return err
	}
	for _, im := range images {
		if im.SHA256 == sum && len(im.Needed) > 0 {
			return refused("%s is needed: %s", im.File, im.Needed[0])
		}
	}
	err = k.Store.Audited(ctx, by, func(tx *store.Store) (store.Line, error) {
		return store.Line{Event: "image deleted", Detail: "SHA-256 " + sum}, tx.DeleteImage(ctx, sum)
	})
	if err != nil {
		return err
	}
	return k.Blobs.Delete(sum)
}
