import express from 'express'
const app = express()
app.use('/assign', (q, a) => a.send('CLOSED'))
app.use((q, a) => a.send('OTHER'))
app.listen(Number(process.argv[2]), '127.0.0.1')
