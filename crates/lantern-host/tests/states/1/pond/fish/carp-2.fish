id = carp
version = 2
