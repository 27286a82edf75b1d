package isolation

// Leave closes the connection to the process, as when the service is killed.
func (p *Lasting) Leave() { p.conn.Close() }
