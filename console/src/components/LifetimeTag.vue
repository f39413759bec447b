<script setup lang="ts">
/** A lifetime, shown by its edge as in the drawings: solid and thick, solid, double, dashed, dotted. */
defineProps<{ lifetime: string }>()
</script>

<template>
  <span v-if="lifetime" class="lifetime" :class="lifetime">{{ lifetime }}</span>
  <span v-else class="quiet">not said</span>
</template>

<style scoped>
.lifetime {
  display: inline-block;
  padding: 0 6px;
  border: 1px solid rgb(var(--v-theme-life));
  border-radius: 3px;
  font-size: 0.8rem;
  line-height: 1.4;
  white-space: nowrap;
}
.singleton {
  border-width: 2.5px;
}
.transient {
  border-style: dashed;
}
.per-consumer {
  border-width: 3px;
  border-style: double;
}
.external {
  border-width: 2px;
  border-style: dotted;
}
</style>
