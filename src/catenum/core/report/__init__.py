"""The words: a recording's story as sections of lines, its headline, access paths."""
