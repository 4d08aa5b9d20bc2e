<template>
  <svg viewBox="0 0 24 24" class="size-6 fill-verdigris" aria-hidden="true">
    <path d="M4 21V9.5L12 3l8 6.5V21h-2.6V10.7L12 6.3l-5.4 4.4V21z" />
    <path d="M9.6 21v-6.4a2.4 2.4 0 0 1 4.8 0V21z" />
  </svg>
</template>
