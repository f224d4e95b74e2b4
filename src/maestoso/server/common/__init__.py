"""What every feature of the server uses: shapes, problems, secrets."""
