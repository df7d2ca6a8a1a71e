//go:build !linux && !darwin

package live

// Open is not built for this system: the error is ErrUnsupported.
func Open(Options) (Tap, error) { return nil, ErrUnsupported }
