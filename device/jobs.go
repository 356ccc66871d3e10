package device

import "context"

// Jobs remembers, beyond a connection, what a device does in the background for a verb. A service that lost the connection, or was started anew, asks for that
// job then, instead of giving the command a second time.
type Jobs interface {
	// Open is the job that a verb began and that has not ended as far as is known; "" when there is none.
	Open(verb string) string
	// Begun notes a job before it is waited for. An error ends the verb.
	Begun(ctx context.Context, verb, job string) error
	// Over notes that a job has ended, or that the device does not know it any more.
	Over(ctx context.Context, verb string) error
}

type jobsKey struct{}

// WithJobs is a context whose verbs remember their jobs.
func WithJobs(ctx context.Context, j Jobs) context.Context {
	return context.WithValue(ctx, jobsKey{}, j)
}

// JobsOf is what remembers jobs in a context; without one nothing is remembered.
func JobsOf(ctx context.Context) Jobs {
	if j, ok := ctx.Value(jobsKey{}).(Jobs); ok {
		return j
	}
	return forgetful{}
}

type forgetful struct{}

func (forgetful) Open(string) string                          { return "" }
func (forgetful) Begun(context.Context, string, string) error { return nil }
func (forgetful) Over(context.Context, string) error          { return nil }
