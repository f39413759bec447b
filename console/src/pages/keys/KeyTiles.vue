<script setup lang="ts">
import type { KeyRow } from '@/api/types'
import { useNames } from '@/composables/useNames'
import { rounded } from '@/format'

import { bad, idOf, keyName } from './keys'

/** A service's keys side by side: what was asked, and what answered. */
defineProps<{ keys: KeyRow[]; open: string }>()
const names = useNames()
defineEmits<{ choose: [id: string] }>()
const signs: Record<string, string> = { answered: '✓', 'never asked': '○', missing: '✕', 'answered by another key': '◆' }
</script>

<template>
  <div class="keys">
    <button v-for="k in keys" :key="idOf(k)" type="button" :class="['key', { bad: bad(k), quietly: k.state === 'never asked' }]" :aria-expanded="open === idOf(k)" data-key @click="$emit('choose', idOf(k))">
      <span class="head"><span aria-hidden="true">{{ signs[k.state] ?? '·' }}</span> <strong>{{ keyName(k.key) }}</strong></span>
      <span class="line">{{ k.state }}</span>
      <span class="line num-left">{{ k.missing ? `requested ${rounded(k.asked + k.missing)} times, ${k.asked ? `${rounded(k.missing)} of them without an answer` : 'never answered'}` : `requested ${rounded(k.asked)} times` }}</span>
      <span v-if="k.answers[0]" class="line quiet">{{ k.answers[0].other ? '◆ ' : '' }}{{ k.answers[0].of.implementation ? names.type(k.answers[0].of.implementation) : names.of(k.answers[0].of) }}{{ k.answers.length > 1 ? ` and ${k.answers.length - 1} more` : '' }}</span>
      <span v-else class="line quiet">{{ k.registered.length ? 'nothing handed out' : 'not registered' }}</span>
    </button>
  </div>
</template>

<style scoped>
.keys {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  padding: 10px;
}
.key {
  display: grid;
  gap: 1px;
  min-width: 190px;
  padding: 6px 12px;
  text-align: left;
  border: 1px solid rgba(var(--v-theme-on-surface), 0.25);
  border-radius: 6px;
}
.key[aria-expanded='true'] {
  border-color: rgb(var(--v-theme-link));
  outline: 1px solid rgb(var(--v-theme-link));
}
.key.quietly {
  border-style: dashed;
}
.key.bad {
  color: rgb(var(--v-theme-error));
}
.key.bad .line.quiet {
  color: inherit;
}
.line {
  font-size: 0.8rem;
}
</style>
