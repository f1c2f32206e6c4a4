package cloud

import "context"

type author struct{}

// DoneBy says in whose name the calls of a context are made, where that is another one than that of who asks: a run says which
// run of which store it is.
func DoneBy(ctx context.Context, by string) context.Context {
	return context.WithValue(ctx, author{}, by)
}

// Doer is in whose name calls are made; otherwise where the context does not say.
func Doer(ctx context.Context, otherwise string) string {
	if by, ok := ctx.Value(author{}).(string); ok && by != "" {
		return by
	}
	return otherwise
}
