package keelson.core;

/** Says which cargo is let through. */
public interface Filter {
  boolean lets(Cargo cargo);
}
