"""Starting and stopping the parts: the private MariaDB, the service, its workers, the stand-ins. Command: rustgauged."""
