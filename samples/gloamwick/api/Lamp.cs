using System.Reflection;

[assembly: AssemblyTitle("Lampwright")]
#if OLD
[assembly: AssemblyVersion("2.0.0.0")]
#else
[assembly: AssemblyVersion("3.1.0.0")]
#endif

namespace Lampwright
{
    /// What a lamp is given.
    public class Wick
    {
        public string Cavern;
    }

    /// What a lamp implements. In 2.0 it was lit without a wick: lamps made then cannot be lit now.
    public interface ILamp
    {
#if OLD
        string[] Light();
#else
        string[] Light(Wick wick);
#endif
    }
}
