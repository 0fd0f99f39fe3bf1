"""The organisation: settings, people, teams, territories, permissions, audit."""
