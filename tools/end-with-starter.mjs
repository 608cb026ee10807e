// Loaded into each process of the tests: it ends when the process that started it has ended, however that ended.
const starter = process.ppid
setInterval(() => {
  if (process.ppid !== starter) process.exit(1)
}, 500).unref()
