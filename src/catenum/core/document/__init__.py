"""Results as documents: the same parts for a page, for Markdown and for a notebook."""
