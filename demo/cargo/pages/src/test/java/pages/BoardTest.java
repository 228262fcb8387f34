package pages;

import java.util.List;
import keelson.api.Cargo;

/** Tests are methods without arguments; build/Build.java runs them. */
public final class BoardTest {
  public void page() {
    if (!Board.page(new Cargo("rope", 2)).equals("<p>rope, 2 t</p>")) {
      throw new AssertionError(Board.page(new Cargo("rope", 2)));
    }
  }

  public void heavy() {
    if (Board.heavy(List.of(new Cargo("rope", 2), new Cargo("coal", 12))) != 1) {
      throw new AssertionError("one of two is heavy");
    }
  }
}
