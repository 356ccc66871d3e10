package server

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"syscall"

	"verimorph/access"
	"verimorph/api/gen"
	"verimorph/api/view"
	"verimorph/core/path"
	"verimorph/device"
	"verimorph/engine"
	"verimorph/imagestore"
	"verimorph/planning"
	"verimorph/store"
	"verimorph/transfer"
)

// problem is an error that a caller is told (RFC 9457).
type problem gen.Problem

func (p *problem) Error() string { return p.Detail }

func newProblem(status int, kind, title, format string, args ...any) *problem {
	return &problem{Status: status, Type: kind, Title: title, Detail: fmt.Sprintf(format, args...)}
}

func badRequest(format string, args ...any) *problem {
	return newProblem(http.StatusBadRequest, "bad-request", "The request is not right", format, args...)
}

func notFound(format string, args ...any) *problem {
	return newProblem(http.StatusNotFound, "not-found", "Not found", format, args...)
}

func conflict(format string, args ...any) *problem {
	return newProblem(http.StatusConflict, "conflict", "Not possible now", format, args...)
}

func internal(error) *problem {
	return newProblem(http.StatusInternalServerError, "internal", "The service failed", "the service could not do it; its log says why")
}

// asProblem maps the errors of the layers below to what a caller is told. What is not known stays in the log.
func asProblem(err error) *problem {
	var (
		p       *problem
		no      *path.NoPathError
		unknown *path.UnknownError
		busy    *store.BusyError
		taken   *store.NameTaken
		kept    *store.KeptError
		plan    *planning.Error
		gate    *access.Refusal
		dev     *device.Error
		big     *http.MaxBytesError
		refused *imagestore.RefusedError
		offset  *imagestore.OffsetError
		site    *transfer.SiteError
		oldKey  *engine.OldKeyNeededError
		follows *engine.FollowsError
	)
	switch {
	case errors.As(err, &p):
		return p
	case errors.As(err, &no):
		p = newProblem(http.StatusConflict, "no-path", "There is no supported path", "%s", err)
		refusals := view.Citations(no.Blocks)
		p.Refusals = &refusals
		if !no.Nearest.IsZero() {
			p.Nearest = ptr(no.Nearest.String())
		}
		return p
	case errors.As(err, &unknown):
		return newProblem(http.StatusNotFound, "not-found", "Not in the catalogue", "%s", err)
	case errors.As(err, &taken):
		return conflict("%s", taken)
	case errors.As(err, &busy):
		return conflict("%s", err)
	case errors.As(err, &kept):
		return conflict("%s", kept)
	case errors.As(err, &follows):
		return conflict("%s", follows)
	case errors.As(err, &oldKey):
		return conflict("%s", oldKey)
	case errors.As(err, &plan):
		return planProblem(plan)
	case errors.As(err, &gate):
		switch gate.Reason {
		case access.NoRight:
			return newProblem(http.StatusForbidden, "forbidden", "Not allowed", "%s", gate)
		case access.Incomplete:
			return badRequest("%s", gate)
		}
		return conflict("%s", gate)
	case errors.As(err, &refused):
		return newProblem(http.StatusUnprocessableEntity, "bad-request", "Refused", "%s", refused)
	case errors.As(err, &offset):
		return conflict("%s", offset)
	case errors.Is(err, imagestore.ErrSending):
		return conflict("%s", err)
	case errors.As(err, &site), errors.Is(err, transfer.ErrBroken):
		return newProblem(http.StatusBadGateway, "unavailable", "The release site could not be asked", "%s", err)
	case errors.As(err, &dev):
		return newProblem(http.StatusBadGateway, "device", "The device could not be asked", "%s", err)
	case errors.As(err, &big):
		return newProblem(http.StatusRequestEntityTooLarge, "bad-request", "Too large", "the body may have %d bytes", big.Limit)
	case errors.Is(err, syscall.ENOSPC):
		return newProblem(http.StatusInsufficientStorage, "unavailable", "No room", "the disk of the service is full; make room in its data folder and try again")
	case errors.Is(err, store.ErrNotFound):
		return notFound("there is no such record")
	}
	return internal(err)
}

// planProblem tells what is wrong with a wish.
func planProblem(e *planning.Error) *problem {
	switch e.Kind {
	case planning.Invalid:
		return badRequest("%s", e)
	case planning.NotFound:
		return notFound("%s", e)
	case planning.Unreadable:
		return newProblem(http.StatusUnprocessableEntity, "bad-request", "The configuration cannot be read", "%s", e)
	case planning.NoRules:
		return newProblem(http.StatusConflict, "no-conversion", "No conversion is known", "%s", e)
	case planning.Damaged:
		return newProblem(http.StatusInternalServerError, "internal", "The backup cannot be read", "%s", e)
	}
	return conflict("%s", e)
}

func writeProblem(w http.ResponseWriter, p *problem) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(p.Status)
	_ = json.NewEncoder(w).Encode(p)
}

func ptr[T any](v T) *T { return &v }

// value returns what p points to, or the zero value.
func value[T any](p *T) (v T) {
	if p != nil {
		v = *p
	}
	return v
}

// optional is a text of the contract that is left out when it is empty.
func optional(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}
