package cli

import (
	"maps"
	"slices"
	"testing"

	"wexillum.example/internal/worldfile"
)

// TestSettingsOfTheFormat holds that the client offers every setting that a world file has, each with a line of
// help, and none besides.
func TestSettingsOfTheFormat(t *testing.T) {
	want := slices.Sorted(slices.Values(worldfile.SettingNames()))
	if got := slices.Sorted(maps.Keys(settingHelp)); !slices.Equal(got, want) {
		t.Errorf("settings of the client %q, of the format %q", got, want)
	}
}
