"""What servers with the storage engine InnoDB share."""
