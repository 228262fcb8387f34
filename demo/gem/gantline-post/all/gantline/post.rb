require "gantline/core"

module Gantline
  module Post
    def self.letter(to, text)
      "To #{to}: #{text}"
    end
  end
end
