require_relative "../office"

tests = {
  "a booking is numbered, and its stub says so" => -> { Office.book("Wren") == "no. 0001  Wren" },
  "it is remembered" => -> { Wakelog::LINES == ["Wren has berth 1"] },
  "the board lists it" => -> { Office.board == "Berths\n------\nWren" },
  "the north pier is deep enough" => -> { Office.deep_enough?("north") }
}
puts "1..#{tests.length}"
failed = tests.each_with_index.reject do |(name, test), i|
  passed = begin
    test.call
  rescue StandardError => e
    puts "# #{e.class}: #{e.message}"
    false
  end
  puts "#{'not ' unless passed}ok #{i + 1} - #{name}"
  passed
end
exit failed.empty?
