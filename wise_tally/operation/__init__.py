"""What whoever runs the server needs: backups, restoring, upgrades, health, and faults of the machine in words."""
