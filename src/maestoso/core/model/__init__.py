"""The values everything else speaks about: estate, protection, crosswalk, plan."""
