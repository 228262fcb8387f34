# Sailpress presses assets.
module Sailpress
  def self.press(text)
    text.squeeze(" ")
  end
end
