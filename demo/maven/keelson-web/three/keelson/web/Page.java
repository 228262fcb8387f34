package keelson.web;

import keelson.core.Cargo;

/** A page about one piece of cargo. */
public final class Page {
  private Page() {}

  public static String of(Cargo cargo) {
    return "<p>" + cargo.name() + ", " + cargo.tons() + " t</p>";
  }
}
