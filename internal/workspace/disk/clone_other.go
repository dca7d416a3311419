//go:build !linux && !darwin

package disk

import "errors"

// CloneFile is not known here: the copy is a plain one.
func CloneFile(string, string) error { return errors.ErrUnsupported }
