package reach

import "golang.org/x/sys/unix"

// searchFlags open a folder that may be passed through, though not listed.
const searchFlags = unix.O_PATH
