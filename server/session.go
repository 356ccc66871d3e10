package server

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"verimorph/access"
	"verimorph/api/gen"
	"verimorph/store"
)

const (
	cookieName = "verimorph_session"
	userName   = "user" // keys in the call's context
	userID     = "user-id"
	tokenKey   = "token"
)

var crossOrigin = http.NewCrossOriginProtection()

// signedIn lets a call through when it carries a session. The cookie is refused for calls from other sites' pages.
func (s *Server) signedIn(c *gin.Context) {
	if c.FullPath() == "/api/v1/sign-in" {
		if err := crossOrigin.Check(c.Request); err != nil {
			s.refuse(c, newProblem(http.StatusForbidden, "not-signed-in", "Not allowed", "this call comes from another site's page"))
		}
		return
	}
	token, ok := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer ")
	if !ok {
		token, _ = c.Cookie(cookieName)
		if err := crossOrigin.Check(c.Request); err != nil {
			s.refuse(c, newProblem(http.StatusForbidden, "not-signed-in", "Not allowed", "this call comes from another site's page"))
			return
		}
	}
	u, err := s.Store.UserOf(c, token)
	switch {
	case errors.Is(err, store.ErrNotFound):
		s.refuse(c, newProblem(http.StatusUnauthorized, "not-signed-in", "Not signed in", "sign in first: the session is missing, unknown or has expired"))
	case err != nil:
		s.Log.Error("cannot look up a session", "err", err)
		s.refuse(c, newProblem(http.StatusServiceUnavailable, "unavailable", "Not available", "the database does not answer; try again"))
	default:
		c.Set(userName, u.Name)
		c.Set(userID, u.ID)
		c.Set(tokenKey, token)
	}
}

func (s *Server) refuse(c *gin.Context, p *problem) {
	writeProblem(c.Writer, p)
	c.Abort()
}

func user(ctx context.Context) string { return actor(ctx).String() }

// actor is who makes a call.
func actor(ctx context.Context) access.Actor {
	c := ctx.(*gin.Context)
	name := c.GetString(userName)
	if name == "" { // not signed in
		return access.Actor{}
	}
	return access.Person(name, c.ClientIP())
}

// limiter slows down guessing: after maxFailures wrong passwords for a name, the name waits.
type limiter struct {
	mu       sync.Mutex
	failures map[string][]time.Time
}

const (
	maxFailures   = 5
	failureWindow = time.Minute
)

func (l *limiter) blocked(name string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	recent := l.failures[name][:0]
	for _, t := range l.failures[name] {
		if time.Since(t) < failureWindow {
			recent = append(recent, t)
		}
	}
	if len(recent) == 0 {
		delete(l.failures, name)
	} else {
		l.failures[name] = recent
	}
	return len(recent) >= maxFailures
}

func (l *limiter) failed(name string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.failures == nil || len(l.failures) > 10000 {
		l.failures = map[string][]time.Time{}
	}
	l.failures[name] = append(l.failures[name], time.Now())
}

type signInResponse struct {
	session gen.Session
	secure  bool
	age     time.Duration
}

func (r signInResponse) VisitSignInResponse(w http.ResponseWriter) error {
	http.SetCookie(w, &http.Cookie{Name: cookieName, Value: r.session.Token, Path: "/", HttpOnly: true, Secure: r.secure, SameSite: http.SameSiteStrictMode, MaxAge: int(r.age.Seconds())})
	w.Header().Set("Content-Type", "application/json")
	return json.NewEncoder(w).Encode(r.session)
}

// SignIn opens a session.
func (s *Server) SignIn(ctx context.Context, r gen.SignInRequestObject) (gen.SignInResponseObject, error) {
	days := 1
	if r.Body.Days != nil {
		days = *r.Body.Days
	}
	if days < 1 || days > 365 {
		return nil, badRequest("days must be from 1 to 365")
	}
	if s.limiter.blocked(r.Body.User) {
		return nil, newProblem(http.StatusTooManyRequests, "too-many", "Too many tries", "too many wrong passwords for this user; wait a minute")
	}
	age := time.Duration(days) * 24 * time.Hour
	token, u, err := s.Store.SignIn(ctx, r.Body.User, r.Body.Password, age)
	if errors.Is(err, store.ErrNotFound) {
		s.limiter.failed(r.Body.User)
		return nil, newProblem(http.StatusUnauthorized, "not-signed-in", "Not signed in", "the user or the password is wrong")
	}
	if err != nil {
		return nil, err
	}
	return signInResponse{gen.Session{Token: token, User: u.Name}, ctx.(*gin.Context).Request.TLS != nil, age}, nil
}

// SignOut ends the session.
func (s *Server) SignOut(ctx context.Context, _ gen.SignOutRequestObject) (gen.SignOutResponseObject, error) {
	return gen.SignOut204Response{}, s.Store.SignOut(ctx, ctx.(*gin.Context).GetString(tokenKey))
}

// GetService tells what this installation is.
func (s *Server) GetService(ctx context.Context, _ gen.GetServiceRequestObject) (gen.GetServiceResponseObject, error) {
	return gen.GetService200JSONResponse{Version: Version, User: user(ctx), TimeFactor: max(s.Pace.Factor, 1), Zone: s.zone(), Dialects: s.Engine.DriverNames()}, nil
}

// once makes a creating call with an idempotency key happen once: a repetition gets the id that the first call made.
func (s *Server) once(ctx context.Context, key *string, request any, create func() (id string, err error)) (string, error) {
	if key == nil || *key == "" {
		return create()
	}
	uid := ctx.(*gin.Context).GetInt64(userID)
	body, err := json.Marshal(request)
	if err != nil {
		return "", err
	}
	// The body may hold a password, so what is kept of it must not help anybody to guess one.
	digest := s.Vault.Digest(append([]byte(ctx.(*gin.Context).FullPath()+"\n"), body...))
	first, id, mismatch, err := s.Store.Once(ctx, uid, *key, digest)
	switch {
	case err != nil:
		return "", err
	case mismatch:
		return "", badRequest("the idempotency key %q was used for another request", *key)
	case !first && id == "":
		return "", conflict("the first call with the idempotency key %q is still running", *key)
	case !first:
		return id, nil
	}
	id, err = create()
	if err != nil {
		return "", errors.Join(err, s.Store.Forget(context.WithoutCancel(ctx), uid, *key))
	}
	return id, s.Store.Created(context.WithoutCancel(ctx), uid, *key, id)
}

// onceNumbered is once for records that have a number.
func (s *Server) onceNumbered(ctx context.Context, key *string, request any, create func() (int64, error)) (int64, error) {
	id, err := s.once(ctx, key, request, func() (string, error) {
		n, err := create()
		return fmt.Sprint(n), err
	})
	if err != nil {
		return 0, err
	}
	return strconv.ParseInt(id, 10, 64)
}
