package machine

// owned has nothing to check: a folder below the user's own is theirs.
func owned(string) error { return nil }
