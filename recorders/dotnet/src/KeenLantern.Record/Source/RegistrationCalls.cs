using System.Collections.Concurrent;
using System.Collections.Immutable;
using System.Globalization;
using System.Reflection;
using System.Reflection.Emit;
using System.Reflection.Metadata;
using System.Reflection.Metadata.Ecma335;
using System.Runtime.CompilerServices;
using System.Text;

namespace KeenLantern.Record.Source;

/// <summary>A call in the application's code that registers something: <c>services.AddScoped&lt;ITides, GaugeTides&gt;()</c>.</summary>
/// <param name="Method">The method that is called.</param>
/// <param name="Types">Its type arguments, or the types in <c>typeof</c> before it, in the form of <see cref="RegistrationCalls.NameOf"/>.</param>
/// <param name="Place">Its place in the source.</param>
internal sealed record RegistrationCall(string Method, IReadOnlyList<string> Types, string Place);

/// <summary>
/// Finds the calls that register something in the compiled code of the application's assemblies. The collection of registrations keeps no
/// places, and is filled before the recorder sees it.
/// </summary>
internal static class RegistrationCalls
{
    private static readonly ConcurrentDictionary<(Assembly, string), RegistrationCall[]> Known = new();
    private static readonly OperandType?[] Short = new OperandType?[256];
    private static readonly OperandType?[] Long = new OperandType?[256]; // behind a byte 0xFE

    static RegistrationCalls()
    {
        foreach (FieldInfo field in typeof(OpCodes).GetFields(BindingFlags.Public | BindingFlags.Static))
        {
            var code = (OpCode)field.GetValue(null)!;
            (code.Size == 1 ? Short : Long)[code.Value & 0xFF] = code.OperandType;
        }
    }

    /// <summary>Returns the calls in all loaded assemblies with symbols that are not the framework's.</summary>
    /// <param name="library">An assembly that they reference.</param>
    /// <param name="receivers">The types of the first parameter, or the declaring types, of methods that register.</param>
    internal static IEnumerable<RegistrationCall> All(string library, IReadOnlySet<string> receivers)
    {
        if (!RuntimeFeature.IsDynamicCodeSupported)
        {
            yield break; // compiled ahead of time: there is no code to read
        }

        foreach (Assembly assembly in AppDomain.CurrentDomain.GetAssemblies())
        {
            if (assembly.IsDynamic || Callers.IsFramework(assembly))
            {
                continue;
            }

            if (!Known.TryGetValue((assembly, library), out RegistrationCall[]? calls))
            {
                calls = References(assembly, library) && Symbols.Of(assembly) is { } symbols ? In(symbols, receivers) : [];
                Known.TryAdd((assembly, library), calls);
            }

            foreach (RegistrationCall call in calls)
            {
                yield return call;
            }
        }
    }

    [System.Diagnostics.CodeAnalysis.UnconditionalSuppressMessage("Trimming", "IL2026", Justification = "Without references, there are no places.")]
    private static bool References(Assembly assembly, string library) =>
        Array.Exists(assembly.GetReferencedAssemblies(), name => name.Name is { } text && text.StartsWith(library, StringComparison.Ordinal));

    private static RegistrationCall[] In(Symbols symbols, IReadOnlySet<string> receivers)
    {
        try
        {
            return new Scan(symbols, receivers).Calls();
        }
        catch (Exception e) when (e is BadImageFormatException or InvalidOperationException or ArgumentException)
        {
            return []; // code of a form that this does not know
        }
    }

    /// <summary>Returns the name of a type, as calls have it.</summary>
    internal static string NameOf(Type type)
    {
        if (type.IsArray)
        {
            return NameOf(type.GetElementType()!) + "[]";
        }

        string name = (type.IsConstructedGenericType ? type.GetGenericTypeDefinition().FullName : type.FullName) ?? type.Name;
        return type.IsConstructedGenericType ? $"{name}[{string.Join(',', type.GenericTypeArguments.Select(NameOf))}]" : name;
    }

    /// <summary>
    /// Returns the places of registrations in their order, each with the place that is known for it or the calls that may have made it. Of
    /// several calls, it is the one that stands between those of the registrations before and after; where that leaves several, or none,
    /// there is no place.
    /// </summary>
    internal static string?[] PlacesOf(IReadOnlyList<(string? Place, List<RegistrationCall> May)> inOrder)
    {
        var places = new string?[inOrder.Count];
        for (int n = 0; n < places.Length; n++)
        {
            places[n] = inOrder[n].Place ?? (inOrder[n].May.Count == 1 ? inOrder[n].May[0].Place : null);
        }

        // For each registration, the next known place after it.
        string?[] after = new string?[places.Length];
        for (int n = places.Length - 2; n >= 0; n--)
        {
            after[n] = places[n + 1] ?? after[n + 1];
        }

        for (int n = 0; n < places.Length; n++)
        {
            if (places[n] is null && inOrder[n].May.Count > 1)
            {
                places[n] = Between(n > 0 ? places[n - 1] : null, after[n], inOrder[n].May);
            }
        }

        return places;
    }

    private static string? Between(string? before, string? after, List<RegistrationCall> may)
    {
        (string? file, int from) = Split(before);
        (string? last, int to) = Split(after);
        List<string> places = [.. may.Select(call => call.Place).Where(place =>
        {
            (string? at, int line) = Split(place);
            return (file is not null || last is not null) && (file is null || (at == file && line >= from)) && (last is null || (at == last && line <= to));
        })];
        return places.Count == 1 ? places[0] : null;
    }

    private static (string? File, int Line) Split(string? place) =>
        place?.LastIndexOf(':') is { } colon ? (place[..colon], int.Parse(place.AsSpan(colon + 1), CultureInfo.InvariantCulture)) : (null, 0);

    private sealed class Scan(Symbols symbols, IReadOnlySet<string> receivers)
    {
        private readonly MetadataReader reader = symbols.Code.GetMetadataReader();
        private readonly Names names = new();
        private readonly Dictionary<int, (string Method, ImmutableArray<string> Types)?> methods = [];
        private readonly List<RegistrationCall> calls = [];

        internal RegistrationCall[] Calls()
        {
            foreach (MethodDefinitionHandle handle in reader.MethodDefinitions)
            {
                MethodDefinition method = reader.GetMethodDefinition(handle);
                if (method.RelativeVirtualAddress != 0)
                {
                    Read(MetadataTokens.GetToken(handle), symbols.Code.GetMethodBody(method.RelativeVirtualAddress).GetILReader());
                }
            }

            return [.. calls];
        }

        private void Read(int method, BlobReader code)
        {
            List<string>? types = null;
            while (code.RemainingBytes > 0)
            {
                int at = code.Offset;
                byte first = code.ReadByte();
                OperandType? operand = first == 0xFE ? Long[code.ReadByte()] : Short[first];
                switch (operand)
                {
                    case null:
                        return;
                    case OperandType.InlineTok:
                        if (TypeOf(MetadataTokens.EntityHandle(code.ReadInt32())) is { } type)
                        {
                            (types ??= []).Add(type);
                        }

                        break;
                    case OperandType.InlineMethod:
                        if (Registers(code.ReadInt32()) is { } called)
                        {
                            IReadOnlyList<string> about = called.Types.IsEmpty ? types?.ToArray() ?? [] : called.Types;
                            if (about.Count > 0 && symbols.PlaceOf(method, at) is { } place)
                            {
                                calls.Add(new RegistrationCall(called.Method, about, place));
                            }

                            types = null;
                        }

                        break;
                    case OperandType.InlineSwitch:
                        int targets = code.ReadInt32();
                        code.Offset += 4 * targets;
                        break;
                    case OperandType.InlineNone:
                        break;
                    case OperandType.ShortInlineBrTarget or OperandType.ShortInlineI or OperandType.ShortInlineVar:
                        code.Offset += 1;
                        break;
                    case OperandType.InlineVar:
                        code.Offset += 2;
                        break;
                    case OperandType.InlineI8 or OperandType.InlineR:
                        code.Offset += 8;
                        break;
                    default:
                        code.Offset += 4;
                        break;
                }
            }
        }

        private string? TypeOf(EntityHandle handle) => handle.Kind switch
        {
            HandleKind.TypeDefinition => names.GetTypeFromDefinition(reader, (TypeDefinitionHandle)handle, 0),
            HandleKind.TypeReference => names.GetTypeFromReference(reader, (TypeReferenceHandle)handle, 0),
            HandleKind.TypeSpecification => names.GetTypeFromSpecification(reader, null, (TypeSpecificationHandle)handle, 0),
            _ => null,
        };

        // Returns a method's name and type arguments where it registers something.
        private (string Method, ImmutableArray<string> Types)? Registers(int token)
        {
            if (!methods.TryGetValue(token, out (string, ImmutableArray<string>)? known))
            {
                methods[token] = known = Look(MetadataTokens.EntityHandle(token));
            }

            return known;
        }

        private (string Method, ImmutableArray<string> Types)? Look(EntityHandle handle)
        {
            switch (handle.Kind)
            {
                case HandleKind.MethodSpecification:
                    MethodSpecification specification = reader.GetMethodSpecification((MethodSpecificationHandle)handle);
                    return Registers(MetadataTokens.GetToken(specification.Method)) is { } generic
                        ? (generic.Method, specification.DecodeSignature(names, null))
                        : null;
                case HandleKind.MemberReference:
                    MemberReference member = reader.GetMemberReference((MemberReferenceHandle)handle);
                    return member.GetKind() == MemberReferenceKind.Method
                        ? Look(reader.GetString(member.Name), member.DecodeMethodSignature(names, null), TypeOf(member.Parent))
                        : null;
                case HandleKind.MethodDefinition:
                    MethodDefinition method = reader.GetMethodDefinition((MethodDefinitionHandle)handle);
                    return Look(reader.GetString(method.Name), method.DecodeSignature(names, null), null);
                default:
                    return null;
            }
        }

        private (string Method, ImmutableArray<string> Types)? Look(string name, MethodSignature<string> signature, string? on) =>
            (on is not null && receivers.Contains(on)) ||
            (!signature.Header.IsInstance && signature.ParameterTypes.Length > 0 && receivers.Contains(signature.ParameterTypes[0]))
                ? (name, [])
                : null;
    }

    /// <summary>Names of types as reflection has them.</summary>
    private sealed class Names : ISignatureTypeProvider<string, object?>
    {
        public string GetTypeFromDefinition(MetadataReader reader, TypeDefinitionHandle handle, byte rawTypeKind)
        {
            TypeDefinition type = reader.GetTypeDefinition(handle);
            string name = reader.GetString(type.Name);
            return !type.GetDeclaringType().IsNil ? GetTypeFromDefinition(reader, type.GetDeclaringType(), 0) + "+" + name
                : type.Namespace.IsNil ? name
                : reader.GetString(type.Namespace) + "." + name;
        }

        public string GetTypeFromReference(MetadataReader reader, TypeReferenceHandle handle, byte rawTypeKind)
        {
            TypeReference type = reader.GetTypeReference(handle);
            string name = reader.GetString(type.Name);
            return type.ResolutionScope.Kind == HandleKind.TypeReference
                ? GetTypeFromReference(reader, (TypeReferenceHandle)type.ResolutionScope, 0) + "+" + name
                : type.Namespace.IsNil ? name
                : reader.GetString(type.Namespace) + "." + name;
        }

        public string GetTypeFromSpecification(MetadataReader reader, object? genericContext, TypeSpecificationHandle handle, byte rawTypeKind) =>
            reader.GetTypeSpecification(handle).DecodeSignature(this, genericContext);

        public string GetGenericInstantiation(string genericType, ImmutableArray<string> typeArguments) =>
            new StringBuilder(genericType).Append('[').AppendJoin(',', typeArguments).Append(']').ToString();

        public string GetPrimitiveType(PrimitiveTypeCode typeCode) => "System." + typeCode;

        public string GetSZArrayType(string elementType) => elementType + "[]";

        public string GetArrayType(string elementType, ArrayShape shape) => elementType + "[*]";

        public string GetByReferenceType(string elementType) => elementType + "&";

        public string GetPointerType(string elementType) => elementType + "*";

        public string GetPinnedType(string elementType) => elementType;

        public string GetModifiedType(string modifier, string unmodifiedType, bool isRequired) => unmodifiedType;

        public string GetFunctionPointerType(MethodSignature<string> signature) => "*";

        public string GetGenericMethodParameter(object? genericContext, int index) => "!!" + index;

        public string GetGenericTypeParameter(object? genericContext, int index) => "!" + index;
    }
}
