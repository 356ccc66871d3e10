package server

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"strings"
	"time"

	"verimorph/api/gen"
	"verimorph/planning"
)

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
	return out, s.simulated(ctx, http.MethodGet, "/devices", nil, &out.Items)
}

// ArmFault lets something go wrong.
func (s *Server) ArmFault(ctx context.Context, r gen.ArmFaultRequestObject) (gen.ArmFaultResponseObject, error) {
	if !planning.GoodName(r.Name) || !planning.GoodName(r.Fault) {
		return nil, badRequest("there is no such device or fault")
	}
	return gen.ArmFault204Response{}, s.simulated(ctx, http.MethodPost, "/devices/"+r.Name+"/faults/"+r.Fault, r.Body, nil)
}

// HealFault takes a fault away.
func (s *Server) HealFault(ctx context.Context, r gen.HealFaultRequestObject) (gen.HealFaultResponseObject, error) {
	if !planning.GoodName(r.Name) || !planning.GoodName(r.Fault) {
		return nil, badRequest("there is no such device or fault")
	}
	return gen.HealFault204Response{}, s.simulated(ctx, http.MethodDelete, "/devices/"+r.Name+"/faults/"+r.Fault, nil, nil)
}
