package machine

// awakeCommand asks logind, by systemd-inhibit(1), where it runs.
func awakeCommand(why string) []string {
	return []string{"systemd-inhibit", "--what=idle:sleep", "--who=Catena", "--why=" + why,
		"--mode=block", "cat"}
}

func awakeHere() (func(), bool) { return func() {}, false }
