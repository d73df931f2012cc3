"""Starting and stopping the parts: private MariaDB, service, workers, stand-ins. Its command is rustgauged."""
