module Wakelog
  VERSION = "13.0.0.pre"
end
