"""A place where foreign work is done that can reach nothing: a process of its own in namespaces of its own (`bubblewrap`), with a list of
system calls it may make (`libseccomp`) and limits of time, memory, files and output."""
