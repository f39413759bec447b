package cli

import (
	"errors"
	"fmt"
	"os"

	"github.com/goccy/go-yaml"

	"keenlantern.example/internal/core/rules"
)

// settingsFlag adds --settings.
func (f *flags) settingsFlag() *string {
	return f.String("settings", "", "YAML `FILE` with thresholds and lists for the rules; see docs/settings.md")
}

// maxSettings bounds the file, in bytes.
const maxSettings = 1 << 20

// readSettings returns the defaults, changed by the file if one is named.
func readSettings(name string) (rules.Settings, error) {
	set := rules.Default()
	if name == "" {
		return set, nil
	}
	text, err := os.ReadFile(name)
	if err == nil && len(text) > maxSettings {
		err = errors.New("it is larger than a megabyte")
	}
	if err == nil {
		err = yaml.UnmarshalWithOptions(text, &set, yaml.Strict())
	}
	if err == nil {
		err = set.Check()
	}
	if err != nil {
		return set, fmt.Errorf("read the settings in %s: %w", name, err)
	}
	return set, nil
}
