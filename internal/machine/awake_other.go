//go:build !linux && !darwin && !windows

package machine

func awakeCommand(string) []string { return nil }

func awakeHere() (func(), bool) { return func() {}, false }
