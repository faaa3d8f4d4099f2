id = carp
version = 1
