//go:build !linux && !darwin

package workspace

import "errors"

// cloneFile is not known here: the copy is a plain one.
func cloneFile(string, string) error { return errors.ErrUnsupported }
