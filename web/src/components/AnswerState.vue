<script setup lang="ts">
defineProps<{ problem: string | undefined; slow: boolean }>()
const emit = defineEmits<{ again: [] }>()
</script>

<template>
  <div v-if="problem" role="alert" class="my-6 border-l-4 border-oxide bg-raised px-4 py-3">
    <p>{{ problem }}</p>
    <button type="button" class="act mt-3" @click="emit('again')">Try again</button>
  </div>
  <p v-else-if="slow" role="status" class="my-6 text-faded">Still waiting for the service …</p>
</template>
