//go:build !windows

package reach

import "io/fs"

// WalkedLocal opens local files element by element, as where the kernel has no call for it.
type WalkedLocal struct{ localFS }

// OpenResolved opens a name in which no link may be.
func (WalkedLocal) OpenResolved(name string) (fs.File, error) { return walkResolved("/", name) }
