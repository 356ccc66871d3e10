package engine

import (
	"bytes"
	"encoding/json"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"github.com/stretchr/testify/require"

	"verimorph/access"
	"verimorph/core/change"
	"verimorph/core/path"
	"verimorph/core/portrait"
	"verimorph/simfleet/firmware"
	"verimorph/store"
)

// draftTo looks at the device and drafts a change of it to a version, with the images for its model in the store, and where a folder is given on the card. licences are
// keys by name that the change brings.
func (r *rig) draftTo(to string, licences map[string]string, card string) int64 {
	t := r.t
	p, err := r.Refresh(t.Context(), r.d, access.Person("me", ""))
	require.NoError(t, err)
	way, err := path.NewPlanner(r.cat).Find(path.Question{Portrait: p, Aim: path.Aim{Version: to, Model: r.toModel}, Policy: path.Policy{Reset: true}})
	require.NoError(t, err)
	family := r.cat.Family(way.Family)
	for _, im := range r.cat.Images() {
		of := func(m string) bool {
			return m == way.Model || m == way.LastModel() || slices.ContainsFunc(p.Children, func(c portrait.Child) bool { return c.Model == m })
		}
		if im.Family.Name != way.Family || !slices.ContainsFunc(im.Models, of) {
			continue
		}
		data, err := firmware.Content(&im)
		require.NoError(t, err)
		sum, _, err := r.Blobs.Put(bytes.NewReader(data), 0)
		require.NoError(t, err)
		require.Equal(t, im.SHA256, sum)
		if card != "" {
			require.NoError(t, os.WriteFile(filepath.Join(card, im.File), data, 0o600))
		}
		_, err = r.Store.AddImage(t.Context(), store.Image{SHA256: sum, File: im.File, Size: im.Size, Family: way.Family, Version: im.Version, Models: im.Models, Part: im.Part, AddedBy: "me"})
		require.NoError(t, err)
	}
	if r.Profile(r.d).Abilities.Children.Files {
		change.AddChildImages(family, p, way)
	}
	old := func(hop int) *change.File {
		im := family.Release(way.Hops[hop].From).Image(way.Model)
		return &change.File{Name: im.File, SHA256: im.SHA256, Size: im.Size, Version: way.Hops[hop].From.String()}
	}
	plan, err := change.Draft(change.Job{Family: family, Path: way, Can: r.Profile(r.d).Abilities, Pace: r.Pace, Old: old, Licences: slices.Sorted(maps.Keys(licences)),
		Units: change.UnitsIn(p), GetOn: r.getOn, AtOnce: r.atOnce, Children: change.ChildrenIn(p), Authorise: r.authorise})
	require.NoError(t, err)
	data, err := json.Marshal(way)
	require.NoError(t, err)
	c := store.Change{Members: []store.Member{{DeviceID: r.d.ID, Planned: store.Planned{Model: p.Model, Serial: p.Serial}}}, From: p.Version, To: to, Path: data, Back: plan.Back, BackPolicy: r.policy, Units: plan.Units, Children: plan.Children}
	if len(licences) > 0 {
		c.Work, err = LicenceWork(r.Vault, r.d.Name, licences)
		require.NoError(t, err)
	}
	for _, s := range plan.Steps {
		c.Steps = append(c.Steps, store.Step{Plan: s})
	}
	id, err := r.Store.AddChange(t.Context(), access.Person("me", ""), c)
	require.NoError(t, err)
	return id
}

// release approves a change, has it checked, and starts it.
func (r *rig) release(id int64) {
	require.NoError(r.t, r.Act(r.t.Context(), id, change.Approve, access.Person("me", ""), ""))
	require.NoError(r.t, r.Store.SetChecks(r.t.Context(), id, nil))
	require.NoError(r.t, r.Act(r.t.Context(), id, change.Start, access.Person("me", ""), ""))
}
