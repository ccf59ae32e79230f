"""Playing streams and judging what came: shared by verification, registration and discovery."""
