package tarnholt.client;

import java.lang.annotation.Retention;
import java.lang.annotation.RetentionPolicy;

/** Marks what is drawn. Compiled against, never shipped with a server. */
@Retention(RetentionPolicy.RUNTIME)
public @interface Drawn {}
