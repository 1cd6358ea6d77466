<template>
  <svg class="mark" viewBox="0 0 44 36" width="44" height="36" aria-hidden="true">
    <path class="hull" d="M6 18h32l-5 9H11zM13 12h16v5H13zM16 8h10v3H16z" />
    <path class="funnel" d="M30 4h4v12h-4z" />
    <path class="water" d="M1 31h5v3h5v-3h5v3h5v-3h5v3h5v-3h5v3h5v-3h2" />
  </svg>
</template>

<style scoped>
.hull { fill: currentColor; }
.funnel { fill: rgb(var(--v-theme-warning)); }
.water { fill: none; stroke: rgb(var(--v-theme-secondary)); stroke-width: 2; }
</style>
