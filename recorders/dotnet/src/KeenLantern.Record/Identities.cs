namespace KeenLantern.Record;

/// <summary>Which instance of which registration an object is; 0 where that is not known.</summary>
internal readonly record struct Identity(long Inst, long Reg);

/// <summary>The identities of some objects. It keeps them alive, until it is cleared.</summary>
internal sealed class Identities
{
    private const int Few = 12; // are looked through faster than looked up

    private readonly object?[] objects = new object?[Few];
    private readonly Identity[] identities = new Identity[Few];
    private Dictionary<object, Identity>? more;
    private int count;

    internal Identity Of(object instance)
    {
        for (int n = Math.Min(count, Few) - 1; n >= 0; n--)
        {
            if (ReferenceEquals(objects[n], instance))
            {
                return identities[n];
            }
        }

        return more is null ? default : more.GetValueOrDefault(instance);
    }

    internal void Add(object instance, Identity identity)
    {
        if (count < Few)
        {
            objects[count] = instance;
            identities[count] = identity;
        }
        else
        {
            (more ??= new Dictionary<object, Identity>(ReferenceEqualityComparer.Instance))[instance] = identity;
        }

        count++;
    }

    internal void Clear()
    {
        if (count > 0)
        {
            Array.Clear(objects);
            more = null;
            count = 0;
        }
    }
}
