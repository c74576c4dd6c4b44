package cli

import (
	"errors"
	"fmt"
	"os"
	"strings"

	"golang.org/x/term"

	"catena/internal/cli/view"
)

// Everything that is asked of a person is asked here.

var errNoTerminal = errors.New("no terminal to ask on")

// terminal is where a person can be asked, if there is one.
func (a *app) terminal() (*os.File, bool) {
	f, ok := a.in.(*os.File)
	return f, ok && term.IsTerminal(int(f.Fd()))
}

// longestAnswer bounds a line that a person types, in bytes.
const longestAnswer = 256

// ask asks for a line. Its error is errNoTerminal.
func (a *app) ask(what string) (string, error) {
	f, ok := a.terminal()
	if !ok {
		return "", errNoTerminal
	}
	view.Print(a.err, "%s", what)
	var line []byte
	for b := make([]byte, 1); ; { // byte by byte: what follows is the next question's
		n, err := f.Read(b)
		if n == 0 || err != nil || b[0] == '\n' || len(line) > longestAnswer {
			return strings.TrimSpace(string(line)), nil
		}
		line = append(line, b[0])
	}
}

// askSecret asks for a line that is not shown. Its error is errNoTerminal, or that of the
// terminal.
func (a *app) askSecret(what string) (string, error) {
	f, ok := a.terminal()
	if !ok {
		return "", errNoTerminal
	}
	view.Print(a.err, "%s", what)
	text, err := term.ReadPassword(int(f.Fd()))
	view.Print(a.err, "\n")
	if err != nil {
		return "", fmt.Errorf("the terminal cannot be read: %w", err)
	}
	return string(text), nil
}

// confirm asks a question once; anything but a yes is a refusal.
func (a *app) confirm(question string) error {
	answer, err := a.ask(question + " [y/N] ")
	if err != nil {
		return refused("%w; read the output above, then add --yes", err)
	}
	answer = strings.ToLower(answer)
	if answer != "y" && answer != "yes" {
		return refused("not confirmed; nothing was changed")
	}
	return nil
}
