<script setup lang="ts">
import { computed } from 'vue'
import type { Outcome } from '../api'
import { outcomeTone } from '../look/shape'
import Mark from './Mark.vue'
const props = defineProps<{ outcome: Outcome; words: string }>()
const tone = computed(() => outcomeTone(props.outcome))
</script>

<template>
  <span class="state" :class="tone"><Mark :tone="tone" /> {{ words }}</span>
</template>

<style scoped>
.state { display: inline-flex; align-items: center; gap: 7px; white-space: nowrap; }
.pass { color: rgb(var(--v-theme-pass)); }
.stop { color: rgb(var(--v-theme-stop)); font-weight: 560; }
.notice { color: rgb(var(--v-theme-notice)); font-weight: 560; }
.quiet { color: rgb(var(--v-theme-quiet)); }
</style>
