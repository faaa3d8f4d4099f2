id = carp
version = 3
