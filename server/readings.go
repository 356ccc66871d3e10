package server

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"verimorph/api/gen"
	"verimorph/core/verify"
	"verimorph/device"
	"verimorph/store"
)

// Readings at any time, and those that somebody added.

func apiReadings(r store.ReadingSet) (gen.ReadingSet, error) {
	out := gen.ReadingSet{Id: r.ID, At: r.At, Version: r.Version, By: r.By, Change: r.ChangeID, Readings: []gen.Measured{}}
	var values verify.Readings
	if err := json.Unmarshal(r.Readings, &values); err != nil {
		return out, err
	}
	for name, v := range values {
		out.Readings = append(out.Readings, gen.Measured{Name: name, Value: v.String()})
	}
	slices.SortFunc(out.Readings, func(a, b gen.Measured) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

// ListReadings lists what was measured of a device.
func (s *Server) ListReadings(ctx context.Context, r gen.ListReadingsRequestObject) (gen.ListReadingsResponseObject, error) {
	d, err := s.Planner.Device(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	limit, before, err := page(r.Params.Limit, r.Params.Cursor)
	if err != nil {
		return nil, err
	}
	sets, err := s.Store.ReadingSets(ctx, d.ID, before, limit+1)
	if err != nil {
		return nil, err
	}
	items, next, err := listed(sets, limit, func(r store.ReadingSet) any { return r.ID }, apiReadings)
	return gen.ListReadings200JSONResponse{Items: items, Next: next}, err
}

// TakeReadings measures a device now.
func (s *Server) TakeReadings(ctx context.Context, r gen.TakeReadingsRequestObject) (gen.TakeReadingsResponseObject, error) {
	d, err := s.Planner.Device(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	set, err := s.Engine.TakeReadings(ctx, d, actor(ctx))
	if err != nil {
		return nil, err
	}
	out, err := apiReadings(set)
	return gen.TakeReadings201JSONResponse(out), err
}

// VerifyDevice holds a device against readings of before.
func (s *Server) VerifyDevice(ctx context.Context, r gen.VerifyDeviceRequestObject) (gen.VerifyDeviceResponseObject, error) {
	d, err := s.Planner.Device(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	var before store.ReadingSet
	if r.Body.Before != nil {
		before, err = s.Store.ReadingSet(ctx, d.ID, *r.Body.Before)
		if errors.Is(err, store.ErrNotFound) {
			return nil, notFound("device %s has no readings %d; list them with: verimorph reading list %s", d.Name, *r.Body.Before, d.Name)
		}
	} else {
		var sets []store.ReadingSet
		if sets, err = s.Store.ReadingSets(ctx, d.ID, 0, 1); err == nil && len(sets) == 0 {
			return nil, conflict("no readings of %s were taken yet; take some with: verimorph reading take %s", d.Name, d.Name)
		} else if err == nil {
			before = sets[0]
		}
	}
	if err != nil {
		return nil, err
	}
	c, err := s.Engine.Verify(ctx, d, before, actor(ctx))
	if err != nil {
		return nil, err
	}
	was, err := apiReadings(c.Before)
	if err != nil {
		return nil, err
	}
	is, err := apiReadings(c.Now)
	return gen.VerifyDevice200JSONResponse{Before: was, Now: is, Verdict: *apiVerdict(c.Verdict)}, err
}

func apiOwnReading(o store.OwnReading) gen.OwnReading {
	return gen.OwnReading{Id: &o.ID, Group: &o.Group, Dialect: o.Dialect, Name: &o.Name, Definition: o.Definition, AddedBy: &o.AddedBy}
}

// ListOwnReadings lists what was added to the dialects.
func (s *Server) ListOwnReadings(ctx context.Context, _ gen.ListOwnReadingsRequestObject) (gen.ListOwnReadingsResponseObject, error) {
	os, err := s.Store.OwnReadings(ctx, "", nil)
	if err != nil {
		return nil, err
	}
	out := gen.ListOwnReadings200JSONResponse{Items: []gen.OwnReading{}}
	for _, o := range os {
		out.Items = append(out.Items, apiOwnReading(o))
	}
	return out, nil
}

// PutOwnReading adds a reading for a group.
func (s *Server) PutOwnReading(ctx context.Context, r gen.PutOwnReadingRequestObject) (gen.PutOwnReadingResponseObject, error) {
	if s.Engine.Driver(r.Body.Dialect) == nil {
		return nil, badRequest("dialect %q is not known; known: %s", r.Body.Dialect, strings.Join(s.Engine.DriverNames(), ", "))
	}
	reading, err := device.ReadReading([]byte(r.Body.Definition))
	if err != nil {
		return nil, badRequest("the reading cannot be used: %s", err)
	}
	o := store.OwnReading{Group: value(r.Body.Group), Dialect: r.Body.Dialect, Name: reading.Name, Definition: r.Body.Definition, AddedBy: user(ctx)}
	err = s.audited(ctx, "reading set", o.Group, o.Dialect+" "+o.Name, func(tx *store.Store) (err error) {
		o.ID, err = tx.PutOwnReading(ctx, o)
		return err
	})
	return gen.PutOwnReading200JSONResponse(apiOwnReading(o)), err
}

// DeleteOwnReading takes one away.
func (s *Server) DeleteOwnReading(ctx context.Context, r gen.DeleteOwnReadingRequestObject) (gen.DeleteOwnReadingResponseObject, error) {
	err := s.audited(ctx, "reading taken away", "", fmt.Sprint("added reading ", r.Id), func(tx *store.Store) error { return tx.DeleteOwnReading(ctx, r.Id) })
	if errors.Is(err, store.ErrNotFound) {
		return nil, notFound("there is no added reading %d", r.Id)
	}
	return gen.DeleteOwnReading204Response{}, err
}
