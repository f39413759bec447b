<?php

declare(strict_types=1);

namespace KeenLantern\Record\Symfony;

use KeenLantern\Record\Recorder;
use KeenLantern\Record\Settings;
use Symfony\Component\DependencyInjection\Alias;
use Symfony\Component\DependencyInjection\Argument\ServiceClosureArgument;
use Symfony\Component\DependencyInjection\Compiler\CompilerPassInterface;
use Symfony\Component\DependencyInjection\Compiler\PassConfig;
use Symfony\Component\DependencyInjection\ContainerBuilder;
use Symfony\Component\DependencyInjection\Definition;
use Symfony\Component\DependencyInjection\Reference;

/**
 * Has a compiled container tell a recorder of what it builds. It is added before the container is compiled:
 *
 *     RecordingPass::addTo($container);
 *
 * The recorder is the service Recorder::class, which is made from the environment unless the application defines it.
 */
final class RecordingPass implements CompilerPassInterface
{
    /** The tag of a service that is left alone. */
    public const UNRECORDED = 'keenlantern.unrecorded';

    private function __construct(private readonly Decorators $decorators)
    {
    }

    /** Adds the pass, and the services that a recorded container needs. */
    public static function addTo(ContainerBuilder $container, string $app = 'php'): void
    {
        if (!$container->has(Recorder::class)) {
            $settings = (new Definition(Settings::class))->setFactory([Settings::class, 'fromEnvironment'])->setArguments([$app]);
            $container->setDefinition(Recorder::class, (new Definition(Recorder::class, [$settings])));
        }
        $container->getDefinition(Recorder::class)->setPublic(true);
        $container->setDefinition(Wiring::class, (new Definition(Wiring::class, [new Reference(Recorder::class), []]))
            ->setPublic(true)
            ->addTag('kernel.reset', ['method' => 'between']));
        // Of who decorates whom nothing is left when the references have been resolved, which the other one needs.
        $container->addCompilerPass($decorators = new Decorators(), PassConfig::TYPE_BEFORE_OPTIMIZATION, -1000);
        $container->addCompilerPass(new self($decorators), PassConfig::TYPE_BEFORE_REMOVING, -1000);
    }

    public function process(ContainerBuilder $container): void
    {
        $table = [];
        $unseen = [];
        foreach ($container->getDefinitions() as $definition) {
            self::closures([$definition->getArguments(), $definition->getProperties(), $definition->getMethodCalls()], $unseen);
        }
        foreach ($container->getDefinitions() as $id => $definition) {
            if (self::isSetFromOutside($container, (string) $id)) {
                $table[$id] = ['service' => (string) $id, 'lifetime' => 'external'];
                continue;
            }
            $class = $container->getParameterBag()->resolveValue($definition->getClass());
            if (!\is_string($class) || !self::builds($id, $definition) || \preg_match('/^(?:Symfony|KeenLantern\\\\Record)\\\\/', $class)) {
                continue; // the framework's own services are built as they were
            }
            $table[$id] = $this->describe($container, (string) $id, $definition);
            if ($definition->isPublic() || isset($unseen[$id])) {
                // Requests to the container itself, or a locator, for an existing instance are not seen.
                $table[$id]['sees'] = ['with', 'closes', 'fail'];
            }
            $this->rewrite((string) $id, $definition, $class);
        }
        foreach ($container->getAliases() as $name => $alias) {
            $this->answersTo($container, (string) $name, $alias, $table);
        }
        $container->getDefinition(Wiring::class)->setArgument(1, $table);
    }

    /** Whether the container builds something by a definition, and no recorder is what it builds. */
    private static function builds(string $id, Definition $definition): bool
    {
        return !$definition->isSynthetic() && !$definition->isAbstract() && !$definition->hasErrors()
            && !$definition->hasTag(self::UNRECORDED) && !$definition->hasTag('container.service_locator')
            && $id !== 'service_container';
    }

    /** Reports whether the application sets a service on the container, rather than having it built. */
    private static function isSetFromOutside(ContainerBuilder $container, string $id): bool
    {
        return $container->hasDefinition($id) && $container->getDefinition($id)->isSynthetic()
            && !\preg_match('/^(?:service_container$|kernel$|(?:Symfony|KeenLantern\\\\Record)\\\\)/', $id);
    }

    /**
     * Notes which services are handed out by closures, that locators are made of.
     *
     * @param array<mixed> $values
     * @param array<string, true> $found
     */
    private static function closures(array $values, array &$found): void
    {
        foreach ($values as $value) {
            if ($value instanceof ServiceClosureArgument) {
                foreach ($value->getValues() as $reference) {
                    $found[(string) $reference] = true;
                }
            } elseif (\is_array($value)) {
                self::closures($value, $found);
            } elseif ($value instanceof Definition) {
                self::closures([$value->getArguments(), $value->getProperties(), $value->getMethodCalls()], $found);
            }
        }
    }

    /** @return array<string, mixed> what is registered under an id */
    private function describe(ContainerBuilder $container, string $id, Definition $definition): array
    {
        $service = $this->decorators->services[$id] ?? $id;
        $is = ['service' => $service, 'lifetime' => $definition->isShared() ? 'singleton' : 'transient'];
        if (($inner = $this->decorators->inner[$id] ?? null) !== null) {
            // What it decorates has this name now, or leads to what has.
            $is['wraps'] = $container->hasAlias($inner) ? (string) $container->getAlias($inner) : $inner;
        }
        foreach ($definition->getArguments() as $n => $argument) {
            if ($argument instanceof Reference && self::isSetFromOutside($container, (string) $argument)) {
                $is['outside'][$n] = (string) $argument;
            }
        }
        $set = [];
        foreach ($definition->getMethodCalls() as [$method, $arguments]) {
            foreach ($arguments as $argument) {
                if ($argument instanceof Reference) {
                    $set[] = [$method, (string) $argument];
                }
            }
        }
        foreach ($definition->getProperties() as $property => $argument) {
            if ($argument instanceof Reference) {
                $set[] = [(string) $property, (string) $argument];
            }
        }
        return $set === [] ? $is : $is + ['set' => $set];
    }

    /** Has the instance be built by the wiring, with the same arguments. */
    private function rewrite(string $id, Definition $definition, string $class): void
    {
        $wiring = new Reference(Wiring::class);
        $factory = $definition->getFactory();
        if (\is_string($factory) && \str_contains($factory, '::')) {
            $factory = \explode('::', $factory, 2);
        }
        if (\is_array($factory) && ($factory[0] === null || $factory[0] === '')) {
            $factory[0] = $class;
        }
        if ($definition->getMethodCalls() !== [] || $definition->getProperties() !== []) {
            $configured = new Definition(Configured::class, [$wiring, $id, $definition->getConfigurator()]);
            $definition->setConfigurator([$configured, 'configure']);
        }
        $arguments = $definition->getArguments();
        \ksort($arguments);
        $definition->setArguments([$id, $class, $factory, $arguments])->setFactory([$wiring, 'build']);
    }

    /**
     * Notes the other names that people ask by. What an interface's name leads to is known by that, as it is asked for.
     *
     * @param array<string, array<string, mixed>> $table
     */
    private function answersTo(ContainerBuilder $container, string $name, Alias $alias, array &$table): void
    {
        for ($to = (string) $alias; $container->hasAlias($to); $to = (string) $container->getAlias($to)) {
            continue;
        }
        $known = $this->decorators->services[$name] ?? null; // it is what a decorator stands around
        if (!isset($table[$to]) || $table[$to]['service'] === $name) {
            return;
        }
        if ($table[$to]['service'] === $to && ($known !== null || \interface_exists($name))) {
            $table[$to]['service'] = $known ?? $name;
            $name = $to;
        } elseif ($known !== null) {
            return;
        }
        $table[$to]['also'][] = ['service' => $name];
    }
}
