package device

import "context"

// tellKey is where a context keeps who is told about progress.
type tellKey struct{}

// Telling returns a context with which drivers tell what they are doing: in words, and how many of how many parts of it are done. A driver that
// has nothing to tell tells nothing.
func Telling(ctx context.Context, tell func(doing string, done, of int)) context.Context {
	return context.WithValue(ctx, tellKey{}, tell)
}

// Tell tells whoever listens with a context made by [Telling].
func Tell(ctx context.Context, doing string, done, of int) {
	if tell, ok := ctx.Value(tellKey{}).(func(string, int, int)); ok {
		tell(doing, done, of)
	}
}
