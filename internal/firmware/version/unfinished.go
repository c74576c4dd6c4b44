package version

import "catena/internal/text"

var unfinished = text.Later(
	`(?i)(^|[^a-z])(alpha|beta|rc|pre|preview|dev|nightly|snapshot|test)([^a-z]|$)`)

// Unfinished reports whether a version, or a constraint, names a build that is not a release: an
// alpha, a beta, a release candidate, a nightly build.
func Unfinished(v string) bool { return unfinished().MatchString(v) }
