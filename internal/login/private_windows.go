package login

import "io/fs"

// private accepts every file: who can read it is not in its mode bits here.
func private(fs.FileInfo) error { return nil }
