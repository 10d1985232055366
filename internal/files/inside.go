package files

import "strings"

// Inside says whether a path of the host is a directory or below it.
func Inside(path, dir string) bool {
	return path == dir || strings.HasPrefix(path, strings.TrimSuffix(dir, "/")+"/")
}
