"""Running every schedule that can differ: one stage, many schedules, several workers."""
