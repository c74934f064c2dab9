package tarnholt.client;

/** Something that is drawn over the marsh. Compiled against, never shipped with a server. */
public interface Overlay {
    default void draw() {}
}
