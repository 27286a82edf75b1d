<script lang="ts"></script>

<svelte:head><title>Iron Weir</title></svelte:head>

<div class="page" id="main-content">
  <h1>Page not found</h1>
  <p><a href="/">To the models</a></p>
</div>
