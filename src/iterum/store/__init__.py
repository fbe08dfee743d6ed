"""SQLite through SQLAlchemy: tables, migrations, and a repository that takes and gives core objects."""
