"""Files at the level of the operating system: opened safely, told apart, and put in place whole. No sound, no Qt."""
