"""Any server by its profile, through its plain DB-API driver."""
