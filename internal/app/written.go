package app

import (
	"errors"
	"io/fs"

	"andamio/internal/core/fault"
	"andamio/internal/service/workspace"
)

// WrittenFiles are the files by which a workspace is told how things are to be, by the word for each.
var WrittenFiles = map[string]string{"teams": workspace.FileTeams, "quotas": workspace.FileQuotas, "approvals": workspace.FileApprovals, "rates": workspace.FileRates, "hooks": workspace.FileHooks,
	"levels": workspace.FileLevels, "windows": workspace.FileWindows, "thresholds": workspace.FileThresholds, "reactions": workspace.FileReactions, "fronts": workspace.FileFronts}

// WrittenText is the text of one of [WrittenFiles] as somebody wrote it.
func (a *App) WrittenText(word string) ([]byte, error) {
	if err := a.desk.Read("what was written of " + word); err != nil {
		return nil, err
	}
	file, is := WrittenFiles[word]
	if !is {
		return nil, fault.NotFoundf("there is no file of %s", word)
	}
	data, err := a.workspace.Files().Read(file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fault.NotFoundf("nobody wrote a file of %s: what ships holds", word)
	}
	return data, err
}
