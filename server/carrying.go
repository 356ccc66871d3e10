package server

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"strings"
	"time"

	"verimorph/api/gen"
	"verimorph/api/view"
	"verimorph/core/convert"
	"verimorph/core/path"
	"verimorph/core/verify"
	"verimorph/core/version"
	"verimorph/device"
	"verimorph/engine"
	"verimorph/store"
)

// worked returns what a person worked out as the conversion of a configuration; ok is false when nobody did, or left
// something open. What cannot be read or used any more is an error: the rules alone would leave out what the person decided.
func (s *Server) worked(ctx context.Context, _ store.Backup, text, to string) (out, note string, ok bool, err error) {
	list, err := s.Store.ConversionsOf(ctx, text, to)
	if err != nil {
		return "", "", false, engine.Records(err)
	}
	for _, c := range list {
		w, err := s.workOf(c)
		if err != nil {
			return "", "", false, fmt.Errorf("conversion %d to %s, by %s, cannot be read: %w; delete it and work it out again", c.ID, to, c.CreatedBy, err)
		}
		if w.Source != text || w.Fragment {
			continue
		}
		r, err := s.convert(ctx, w)
		if err != nil {
			return "", "", false, Records(fmt.Errorf("what was worked out as conversion %d, by %s, cannot be used any more: %w", c.ID, c.CreatedBy, err))
		}
		if r.Ledger.Complete() {
			return r.Text, fmt.Sprintf("converted as worked out in conversion %d by %s", c.ID, c.CreatedBy), true, nil
		}
	}
	return "", "", false, nil
}

// Losses: what going back from what runs now to an older version would lose.
func (s *Server) losses(ctx context.Context, d store.Device, to, way string) (gen.Losses, error) {
	out := gen.Losses{To: to, Way: way, Configuration: []gen.Difference{}, Services: []string{}, Credentials: []string{}, Notes: []string{}}
	p := portraitOf(d)
	if p == nil {
		return out, conflict("nobody has looked at device %s yet; refresh it first", d.Name)
	}
	out.From = p.Version
	if err := s.lostConfiguration(ctx, &out, d); err != nil {
		return out, err
	}
	cat, _, _, err := s.catalogue(ctx)
	if err != nil {
		return out, err
	}
	older, bad := version.Parse(to)
	newer, worse := version.Parse(out.From)
	if f := cat.FamilyOfModel(p.Model); f != nil && bad == nil && worse == nil {
		uses := s.Engine.Uses(ctx, f, d)
		for _, sv := range f.Services {
			if !sv.Runs.Contains(newer) || sv.Runs.Contains(older) {
				continue
			}
			used, known := uses[sv.Condition]
			switch {
			case sv.Condition == "" || !known:
				out.Services = append(out.Services, fmt.Sprintf("%s, if this device uses it: %s", sv.Name, sv.Text))
			case used:
				out.Services = append(out.Services, fmt.Sprintf("%s, which this device uses: %s", sv.Name, sv.Text))
			}
		}
	}
	cs, err := s.Engine.Order(ctx, d, to)
	if err != nil {
		return out, err
	}
	for _, c := range cs {
		if c.Kind == engine.KindToken || c.Kind == engine.KindSNMP {
			continue // they let nobody in
		}
		text := fmt.Sprintf("credential %d, %s", c.ID, c.Kind)
		if c.Username != "" {
			text += " of " + c.Username
		}
		if c.Versions != "" {
			text += ", for " + c.Versions
		}
		out.Credentials = append(out.Credentials, text)
	}
	return out, nil
}

// lostConfiguration compares what runs now with the last backup that was taken under the older version.
func (s *Server) lostConfiguration(ctx context.Context, out *gen.Losses, d store.Device) error {
	p, now, unread, err := s.Engine.PartsNow(ctx, d, []string{"running"}, user(ctx))
	if err == nil && unread["running"] != "" {
		err = errors.New(unread["running"])
	}
	if err != nil {
		out.Notes = append(out.Notes, "the configuration of now cannot be read, so nobody can say what would be lost: "+asProblem(err).Detail)
		return nil
	}
	since, err := s.Engine.SinceLeft(ctx, d, p.Model, out.From, out.To, now["running"])
	if err != nil {
		return err
	}
	if since.Backup != 0 {
		out.Backup = &since.Backup
	}
	if since.Unknown != "" {
		out.Notes = append(out.Notes, since.Unknown)
	}
	out.Notes = append(out.Notes, since.Notes...)
	out.Configuration = view.DifferencesOf(since.Differences)
	if len(out.Configuration) > 0 && since.CanCarry {
		out.Notes = append(out.Notes, fmt.Sprintf("what was configured since can be carried across: verimorph change back %s -carry converts it and puts it onto %s, and -carry -preview shows what that does; after another way back, convert the last backup to %s@%s and restore it", d.Name, out.To, p.Model, out.To))
	}
	return nil
}

// GetWayBack answers with what going back now would lose.
func (s *Server) GetWayBack(ctx context.Context, r gen.GetWayBackRequestObject) (gen.GetWayBackResponseObject, error) {
	c, err := s.found(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	hop, ok := c.Passed()
	if !ok || hop >= len(c.Back) {
		return nil, conflict("change %d has not changed what the device runs, so there is nothing to go back from", c.ID)
	}
	d, err := s.Store.DeviceByID(ctx, c.DeviceID)
	if err != nil {
		return nil, err
	}
	way, err := wayOf(&c)
	if err != nil {
		return nil, err
	}
	out, err := s.losses(ctx, d, way.Hops[hop].From.String(), c.Back[hop].Text)
	return gen.GetWayBack200JSONResponse(out), err
}

// PreviewBack answers with what starting the previous installation again would lose.
func (s *Server) PreviewBack(ctx context.Context, r gen.PreviewBackRequestObject) (gen.PreviewBackResponseObject, error) {
	d, err := s.device(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	p := portraitOf(d)
	if p == nil || p.IdleSlot() == nil || p.IdleSlot().Version == "" {
		return nil, conflict("device %s shows no installation beside the running one", d.Name)
	}
	idle := p.IdleSlot()
	if idle.Broken() {
		return nil, conflict("the installation in slot %s of device %s is no way back: the device says that it is %q", idle.Name, d.Name, idle.State)
	}
	out, err := s.losses(ctx, d, idle.Version, "start the installation in slot "+idle.Name+" again")
	if err == nil && value(r.Params.Carry) {
		out.Carried, err = s.carried(ctx, d, p, idle.Version)
	}
	return gen.PreviewBack200JSONResponse(out), err
}

// carried says what carrying the configuration of now across to an older version does to it.
func (s *Server) carried(ctx context.Context, d store.Device, p *device.Portrait, to string) (*gen.Carried, error) {
	_, now, unread, err := s.Engine.PartsNow(ctx, d, []string{"running"}, user(ctx))
	if err != nil {
		return nil, err
	}
	if unread["running"] != "" {
		return nil, conflict("the configuration of now cannot be read: %s", unread["running"])
	}
	l, err := s.Engine.Carry(ctx, p.Model, s.Engine.Dialects[d.Dialect].Part("running").File, p.Version, to, now["running"])
	if err != nil {
		return nil, conflict("the configuration of now cannot be carried across: %s", err)
	}
	out := &gen.Carried{Complete: l.Complete(), Counts: l.Counts, Lines: []string{}}
	for _, item := range l.Source {
		if item.State != convert.Kept && item.State != convert.Moved {
			out.Lines = append(out.Lines, strings.TrimSuffix(fmt.Sprintf("line %d, %s: %s, %s", item.Line, item.Path, strings.ReplaceAll(string(item.State), "-", " "), item.Reason), ", "))
		}
	}
	return out, nil
}

func wayOf(c *store.Change) (p path.Path, err error) { return p, json.Unmarshal(c.Path, &p) }

// Evidence of hand steps.

// maxEvidence bounds one attached file in bytes.
const maxEvidence = 8 << 20

// evidenceLabel binds what is attached to its change.
func evidenceLabel(change int64) string { return fmt.Sprintf("evidence %d", change) }

func apiEvidence(e store.Evidence) gen.Evidence {
	return gen.Evidence{Id: e.ID, Step: e.Step, Name: e.Name, MediaType: e.MediaType, Size: e.Size, AddedBy: e.AddedBy, AddedAt: e.AddedAt}
}

// ListEvidence lists what was attached.
func (s *Server) ListEvidence(ctx context.Context, r gen.ListEvidenceRequestObject) (gen.ListEvidenceResponseObject, error) {
	es, err := s.Store.EvidenceOf(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	out := gen.ListEvidence200JSONResponse{Items: []gen.Evidence{}}
	for _, e := range es {
		out.Items = append(out.Items, apiEvidence(e))
	}
	return out, nil
}

// AddEvidence attaches a file to a hand step.
func (s *Server) AddEvidence(ctx context.Context, r gen.AddEvidenceRequestObject) (gen.AddEvidenceResponseObject, error) {
	data, err := io.ReadAll(io.LimitReader(r.Body, maxEvidence+1))
	if err != nil {
		return nil, err
	}
	c, err := s.found(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	name := strings.TrimSpace(r.Params.Name)
	i := slices.IndexFunc(c.Steps, func(st store.Step) bool { return st.Plan.Number == r.Params.Step })
	switch {
	case len(data) == 0 || len(data) > maxEvidence:
		return nil, badRequest("a file of 1 byte to %d MiB is taken", maxEvidence>>20)
	case name == "" || strings.ContainsAny(name, "/\\\r\n\x00"):
		return nil, badRequest("name %q is no file name", r.Params.Name)
	case i < 0 || c.Steps[i].Plan.Kind != "hand":
		return nil, badRequest("step %d of change %d is no hand step", r.Params.Step, c.ID)
	}
	sealed, err := s.Vault.Seal(evidenceLabel(c.ID), data)
	if err != nil {
		return nil, err
	}
	e, err := s.Store.AddEvidence(ctx, store.Evidence{ChangeID: c.ID, Step: r.Params.Step, Name: name, MediaType: http.DetectContentType(data), Content: sealed, Size: int64(len(data)), AddedBy: user(ctx)})
	return gen.AddEvidence201JSONResponse(apiEvidence(e)), err
}

// GetEvidence answers with one attached file, never as something a browser would run.
func (s *Server) GetEvidence(ctx context.Context, r gen.GetEvidenceRequestObject) (gen.GetEvidenceResponseObject, error) {
	e, err := s.Store.Evidence(ctx, r.Id, r.Item)
	if errors.Is(err, store.ErrNotFound) {
		return nil, notFound("change %d has no such file", r.Id)
	}
	if err != nil {
		return nil, err
	}
	data, err := s.Vault.Open(evidenceLabel(r.Id), e.Content)
	if err != nil {
		return nil, err
	}
	return gen.GetEvidence200ApplicationoctetStreamResponse{Body: bytes.NewReader(data), ContentLength: int64(len(data))}, nil
}

// Readings at any time.

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
	d, err := s.device(ctx, r.Name)
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
	d, err := s.device(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	set, err := s.Engine.TakeReadings(ctx, d, user(ctx))
	if err != nil {
		return nil, err
	}
	out, err := apiReadings(set)
	return gen.TakeReadings201JSONResponse(out), err
}

// VerifyDevice holds a device against readings of before.
func (s *Server) VerifyDevice(ctx context.Context, r gen.VerifyDeviceRequestObject) (gen.VerifyDeviceResponseObject, error) {
	d, err := s.device(ctx, r.Name)
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
	c, err := s.Engine.Verify(ctx, d, before, user(ctx))
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
	if s.Engine.Dialects[r.Body.Dialect] == nil {
		return nil, badRequest("dialect %q is not known; known: %s", r.Body.Dialect, strings.Join(dialectNames(s.Engine.Dialects), ", "))
	}
	reading, err := device.ReadReading([]byte(r.Body.Definition))
	if err != nil {
		return nil, badRequest("the reading cannot be used: %s", err)
	}
	o := store.OwnReading{Group: value(r.Body.Group), Dialect: r.Body.Dialect, Name: reading.Name, Definition: r.Body.Definition, AddedBy: user(ctx)}
	if o.ID, err = s.Store.PutOwnReading(ctx, o); err != nil {
		return nil, err
	}
	return gen.PutOwnReading200JSONResponse(apiOwnReading(o)), s.Store.Audit(ctx, user(ctx), "reading set", o.Group, o.Dialect+" "+o.Name)
}

// DeleteOwnReading takes one away.
func (s *Server) DeleteOwnReading(ctx context.Context, r gen.DeleteOwnReadingRequestObject) (gen.DeleteOwnReadingResponseObject, error) {
	err := s.Store.DeleteOwnReading(ctx, r.Id)
	if errors.Is(err, store.ErrNotFound) {
		return nil, notFound("there is no added reading %d", r.Id)
	}
	if err != nil {
		return nil, err
	}
	return gen.DeleteOwnReading204Response{}, s.Store.Audit(ctx, user(ctx), "reading taken away", "", fmt.Sprint("added reading ", r.Id))
}

// ReadConsoleLog answers with what was seen on a console line.
func (s *Server) ReadConsoleLog(ctx context.Context, r gen.ReadConsoleLogRequestObject) (gen.ReadConsoleLogResponseObject, error) {
	d, err := s.device(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	pieces, err := s.Store.ConsoleLog(ctx, d.ID, value(r.Params.Change), value(r.Params.After), 500)
	if err != nil {
		return nil, err
	}
	out := gen.ReadConsoleLog200JSONResponse{Items: []gen.ConsolePiece{}}
	for _, p := range pieces {
		out.Items = append(out.Items, gen.ConsolePiece{Id: p.ID, At: p.At, Change: p.ChangeID, Text: p.Text})
	}
	return out, nil
}

// checkReach says what is wrong with how a device is to be reached.
func (s *Server) checkReach(ctx context.Context, name, dialect string, r *gen.Reach) (store.Reach, error) {
	out := store.Reach{}
	if r == nil {
		return out, nil
	}
	out = store.Reach{Console: value(r.Console), Only: value(r.Only), Via: value(r.Via), Enter: value(r.Enter)}
	if out.Console != "" {
		if host, port, err := net.SplitHostPort(out.Console); err != nil || host == "" || !goodPort(port) {
			return out, badRequest("console %q should look like 192.0.2.7:7001", out.Console)
		}
	}
	switch {
	case out.Only && out.Console == "":
		return out, badRequest("a device that is reached over its console line only needs the address of that line")
	case out.Enter != "" && out.Via == "":
		return out, badRequest("enter is a command on the device that via names")
	case out.Via == name:
		return out, badRequest("a device cannot be reached through itself")
	case strings.ContainsAny(out.Enter, "\r\n\x00"):
		return out, badRequest("enter is one command on one line")
	}
	for next, hops := out.Via, 0; next != ""; hops++ {
		d, err := s.device(ctx, next)
		if err != nil {
			return out, err
		}
		if d.Name == name || hops > 4 {
			return out, badRequest("going through %s leads round in a circle, or through more than 5 devices", out.Via)
		}
		next = d.Reach.Via
	}
	return out, nil
}

func apiReach(r store.Reach) *gen.Reach {
	if r == (store.Reach{}) {
		return nil
	}
	return &gen.Reach{Console: &r.Console, Only: &r.Only, Via: &r.Via, Enter: &r.Enter}
}

// The simulation, where there is one.

var simulation = http.Client{Timeout: 5 * time.Second}

func (s *Server) simulated(ctx context.Context, method, path string, body any, into any) error {
	if s.Simulation == "" {
		return notFound("nothing is simulated here")
	}
	data, err := json.Marshal(body)
	if err != nil {
		return err
	}
	q, err := http.NewRequestWithContext(ctx, method, s.Simulation+path, bytes.NewReader(data))
	if err != nil {
		return err
	}
	resp, err := simulation.Do(q)
	if err != nil {
		return newProblem(http.StatusBadGateway, "unavailable", "The simulation does not answer", "nothing answers at %s", s.Simulation)
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		text, _ := io.ReadAll(io.LimitReader(resp.Body, 2000))
		return badRequest("%s", strings.TrimSpace(string(text)))
	}
	if into == nil {
		return nil
	}
	return json.NewDecoder(resp.Body).Decode(into)
}

// GetSimulation answers with the simulated devices.
func (s *Server) GetSimulation(ctx context.Context, _ gen.GetSimulationRequestObject) (gen.GetSimulationResponseObject, error) {
	out := gen.GetSimulation200JSONResponse{Items: []gen.SimulatedDevice{}}
	return out, s.simulated(ctx, http.MethodGet, "/simulation", nil, &out.Items)
}

// ArmFault lets something go wrong.
func (s *Server) ArmFault(ctx context.Context, r gen.ArmFaultRequestObject) (gen.ArmFaultResponseObject, error) {
	if !deviceName.MatchString(r.Name) || !deviceName.MatchString(r.Fault) {
		return nil, badRequest("there is no such device or fault")
	}
	return gen.ArmFault204Response{}, s.simulated(ctx, http.MethodPost, "/devices/"+r.Name+"/faults/"+r.Fault, r.Body, nil)
}

// HealFault takes a fault away.
func (s *Server) HealFault(ctx context.Context, r gen.HealFaultRequestObject) (gen.HealFaultResponseObject, error) {
	if !deviceName.MatchString(r.Name) || !deviceName.MatchString(r.Fault) {
		return nil, badRequest("there is no such device or fault")
	}
	return gen.HealFault204Response{}, s.simulated(ctx, http.MethodDelete, "/devices/"+r.Name+"/faults/"+r.Fault, nil, nil)
}
