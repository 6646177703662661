"""Three versions of a settings file become one."""
