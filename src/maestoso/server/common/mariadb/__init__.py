"""Django's backend for MariaDB, with several hosts of one database."""
