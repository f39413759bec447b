package many

import "errors"

// Pause is not supported: Windows has no signal that stops a process.
func (f *Fleet) Pause(int) error { return errors.ErrUnsupported }

// Resume is not supported.
func (f *Fleet) Resume(int) error { return errors.ErrUnsupported }
