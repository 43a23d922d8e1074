// Package docs holds the pages of the documentation, which the console shows and searches.
package docs

import "embed"

// Files are the pages, in Markdown.
//
//go:embed *.md catalogue/*.md catalogue/rules/*.md catalogue/actions/*.md systems/*.md
var Files embed.FS
