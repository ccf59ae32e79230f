"""Up a camera's way from the plug to the disk: where it breaks, who is to blame, and what to do next."""
