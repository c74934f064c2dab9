using System.Reflection;

[assembly: AssemblyVersion("1.2.0.0")]

/// The game's own server: it lights nothing.
public static class Bare
{
    public static int Main(string[] arguments) { return new Host().Run(arguments); }
}
