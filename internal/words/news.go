package words

// News is what was told last of each subject. A program that looks again and again tells a person
// only what is new.
type News map[string]string

// Is tells whether the text of a subject differs from the last one, and keeps it. Before the
// first one it is empty.
func (n News) Is(subject, text string) bool {
	was := n[subject]
	n[subject] = text
	return text != was
}
