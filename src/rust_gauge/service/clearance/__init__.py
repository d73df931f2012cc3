"""May these addresses be mailed? Answers to programs, files and MTAs."""
