require "bundler"
Bundler.require(:default, :assets)

# Office books berths.
module Office
  def self.book(name)
    number = Gantline::Ledger.enter(name)
    Wakelog.note("#{name} has berth #{number}")
    Gantline::Stubs.print(number, name)
  end

  def self.board
    Gantline::Cellar.keep(:board) do
      Gantline::Pages.render("Berths", Gantline::Ledger::BOOKED)
    end
  end

  def self.deep_enough?(pier)
    Soundings.depth(pier) > 30
  end
end
