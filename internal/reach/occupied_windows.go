package reach

import "io/fs"

// Occupied gives how many bytes of a disk a local file takes; known is false where that is not told.
func Occupied(fs.FileInfo) (bytes int64, known bool) { return 0, false }
