"""A site of virtual machines on a Linux host, spoken to through libvirt: inventory, copies, tests,
failover."""
