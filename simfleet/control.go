package simfleet

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"verimorph/simfleet/box"
	"verimorph/simfleet/releasesite"
)

// Handler is the fleet's control: GET /devices, POST and DELETE /devices/{name}/faults/{fault} and /site/faults/{fault}, POST
// /devices/{name}/reset. It is for whoever runs the simulation, on loopback, and has no sign-in.
func (f *Fleet) Handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /devices", func(w http.ResponseWriter, _ *http.Request) {
		all := []box.Look{}
		for _, n := range f.order {
			all = append(all, f.boxes[n].Look())
		}
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(all)
	})
	act := func(do func(box.Box, *http.Request) error) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			err := fmt.Errorf("no device %q; known: %s", r.PathValue("name"), strings.Join(f.order, ", "))
			if b := f.boxes[r.PathValue("name")]; b != nil {
				err = do(b, r)
			}
			if err != nil {
				http.Error(w, err.Error(), http.StatusBadRequest)
			}
		}
	}
	mux.HandleFunc("POST /devices/{name}/faults/{fault}", act(func(b box.Box, r *http.Request) error {
		var fault box.Fault
		if err := json.NewDecoder(r.Body).Decode(&fault); err != nil {
			return errors.New("the body must be {\"value\": N, \"times\": N}")
		}
		return b.Arm(r.PathValue("fault"), box.Fault{Value: fault.Value, Times: fault.Times})
	}))
	mux.HandleFunc("DELETE /devices/{name}/faults/{fault}", act(func(b box.Box, r *http.Request) error { return b.Heal(r.PathValue("fault")) }))
	mux.HandleFunc("POST /devices/{name}/reset", act(func(b box.Box, _ *http.Request) error { return b.Reset() }))
	mux.HandleFunc("/site/faults/{fault}", f.siteFault)
	return mux
}

// siteFault gives the release site a fault, or takes one away.
func (f *Fleet) siteFault(w http.ResponseWriter, r *http.Request) {
	var fault releasesite.Fault
	err := errors.New("no release site runs here")
	if f.site != nil && r.Method == http.MethodDelete {
		f.site.Heal(r.PathValue("fault"))
		return
	}
	if f.site != nil {
		if err = json.NewDecoder(r.Body).Decode(&fault); err == nil {
			err = f.site.Arm(r.PathValue("fault"), fault)
		}
	}
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
	}
}
