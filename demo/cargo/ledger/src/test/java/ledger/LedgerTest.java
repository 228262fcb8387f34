package ledger;

import keelson.api.Cargo;

/** Tests are methods without arguments; build/Build.java runs them. */
public final class LedgerTest {
  public void line() {
    same("coal 13 flood", Ledger.line(new Cargo("coal", 12), 7));
  }

  public void declared() {
    same("coal (declared)", Ledger.declared(new Cargo("coal", 12)));
  }

  private static void same(String want, String is) {
    if (!want.equals(is)) {
      throw new AssertionError("want " + want + ", is " + is);
    }
  }
}
