package server

import (
	"context"

	"verimorph/api/gen"
	"verimorph/api/view"
	"verimorph/planning"
)

// apiLosses is what going back would lose, in the form of the contract.
func apiLosses(l *planning.Losses) gen.Losses {
	out := gen.Losses{From: l.From, To: l.To, Way: l.Way, Configuration: view.DifferencesOf(l.Differences), Services: append([]string{}, l.Services...), Credentials: append([]string{}, l.Credentials...), Notes: append([]string{}, l.Notes...)}
	if l.Backup != 0 {
		out.Backup = &l.Backup
	}
	if c := l.Carried; c != nil {
		out.Carried = &gen.Carried{Complete: c.Complete, Counts: c.Counts, Lines: append([]string{}, c.Lines...)}
	}
	return out
}

// GetWayBack answers with what going back now would lose.
func (s *Server) GetWayBack(ctx context.Context, r gen.GetWayBackRequestObject) (gen.GetWayBackResponseObject, error) {
	l, err := s.Planner.LossesOfReturn(ctx, actor(ctx), r.Id)
	if err != nil {
		return nil, err
	}
	return gen.GetWayBack200JSONResponse(apiLosses(l)), nil
}

// PreviewBack answers with what starting the previous installation again would lose.
func (s *Server) PreviewBack(ctx context.Context, r gen.PreviewBackRequestObject) (gen.PreviewBackResponseObject, error) {
	l, err := s.Planner.LossesOfBack(ctx, actor(ctx), r.Name, value(r.Params.Carry))
	if err != nil {
		return nil, err
	}
	return gen.PreviewBack200JSONResponse(apiLosses(l)), nil
}
