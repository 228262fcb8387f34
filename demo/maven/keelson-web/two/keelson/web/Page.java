package keelson.web;

import keelson.api.Cargo;

/** A page about one piece of cargo. */
public final class Page {
  private Page() {}

  public static String of(Cargo cargo) {
    return "<p>" + cargo.name() + ", " + cargo.tons() + " t</p>";
  }
}
