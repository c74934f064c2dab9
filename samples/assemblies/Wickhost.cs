using System.Reflection;

[assembly: AssemblyVersion("5.4.0.0")]

/// Stands for the loader that the plugin is built against.
namespace Wickhost {
    public static class Api {
        public static string Say(string word) { return word; }
    }
}
