"""Documents as HTML: one self-contained page, and what a notebook shows of a result."""
