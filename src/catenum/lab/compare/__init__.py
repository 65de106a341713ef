"""The baseline and each remedy, side by side: on schedules, or under load."""
