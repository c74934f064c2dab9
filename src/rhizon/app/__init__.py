"""One module for each use case: typed inputs and a Reporter in, a typed result out. The Python API."""
