package cloud

import "context"

// CallingOff is a cloud that can call off what it is doing.
type CallingOff interface {
	// CallOff asks for an operation to end without having come to its end. It ends as failed then, or as done where it was too
	// late; one that cannot be called off comes to its end.
	CallOff(ctx context.Context, r Ref, operation string) error
}

// CallOff calls off an operation, where the cloud that it is in can do that.
func (m *Mux) CallOff(ctx context.Context, r Ref, id string) error {
	_, err := to(ctx, m, r, func(c Cloud, r Ref, _ Way) (struct{}, error) {
		if off, can := c.(CallingOff); can {
			return struct{}{}, off.CallOff(ctx, r, id)
		}
		return struct{}{}, nil
	})
	return err
}
