package keelson.api;

/** Says which cargo is let through. */
public interface Filter {
  boolean lets(Cargo cargo);
}
