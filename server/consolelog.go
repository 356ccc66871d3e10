package server

import (
	"context"

	"verimorph/api/gen"
)

// ReadConsoleLog answers with what was seen on a console line.
func (s *Server) ReadConsoleLog(ctx context.Context, r gen.ReadConsoleLogRequestObject) (gen.ReadConsoleLogResponseObject, error) {
	d, err := s.Planner.Device(ctx, r.Name)
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
