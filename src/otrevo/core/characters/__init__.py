"""Characters: skeletons that other people made, read, understood and mapped onto the performer's."""
