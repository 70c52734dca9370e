"""The headless application: projects, commands, jobs, what a view asks for. No window here."""
